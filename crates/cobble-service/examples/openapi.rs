//! Prints the OpenAPI document, from which the console's types are generated.

fn main() {
    println!("{}", cobble_service::openapi_json());
}

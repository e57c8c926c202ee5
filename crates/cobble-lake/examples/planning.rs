#[path = "../../../tests/src/bin/bench/planning.rs"]
mod planning;
fn main() {
    planning::measure(std::path::Path::new("/tmp/planbench"));
}

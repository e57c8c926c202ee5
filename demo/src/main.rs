//! Writes the ferry data: `cobble-ferry FOLDER [SCALE]`.

use std::path::Path;
use std::process::ExitCode;

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let folder = arguments.next();
    let scale = arguments.next().map_or(Ok(0.1), |text| text.parse());
    match (folder, scale) {
        (Some(folder), Ok(scale)) => {
            match cobble_ferry::write_drop(cobble_ferry::Ferry::new(scale), Path::new(&folder)) {
                Ok(()) => ExitCode::SUCCESS,
                Err(error) => {
                    eprintln!("{folder}: {error}");
                    ExitCode::from(1)
                }
            }
        }
        _ => {
            eprintln!("usage: cobble-ferry FOLDER [SCALE]");
            ExitCode::from(2)
        }
    }
}

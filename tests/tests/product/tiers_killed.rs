//! Moves between tiers whose service is killed: each row is seen once after the next start, and the next move takes up what was left.

use std::path::Path;
use std::time::Duration;

use cobble_tests::{Product, cobble};
use rand::Rng;

const ROWS: u64 = 4_000;
/// Kills in a run of the tests; `COBBLE_KILLS` asks for others.
const KILLS: u64 = 6;

fn configured(folder: &Path) -> String {
    std::fs::create_dir(folder.join("files")).unwrap();
    std::fs::write(folder.join("depot.db"), "").unwrap();
    let text = format!(
        "[connections.depot]\nkind = \"sqlite\"\naddress = \"{place}/depot.db\"\noptions.writable = \"true\"\n\
         [connections.store]\nkind = \"files\"\naddress = \"{place}/files\"\n\
         [connections.kept]\nkind = \"lake_service\"\noptions = {{ storage = \"store\", writable = \"true\" }}\n\
         [catalogs.depot]\nconnection = \"depot\"\n[catalogs.kept]\nconnection = \"kept\"\n",
        place = folder.display()
    );
    let path = folder.join("lane.toml");
    std::fs::write(&path, text).unwrap();
    path.display().to_string()
}

#[test]
fn killed_moves_show_each_row_once() {
    let kills = std::env::var("COBBLE_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(KILLS);
    let folder = tempfile::tempdir().unwrap();
    let lane = folder.path().join("lane");
    std::fs::create_dir(&lane).unwrap();
    let mut product = Product::empty(&lane);
    product.stdout(&["apply", &configured(folder.path())]);
    for sql in [
        "CREATE TABLE depot.main.trips (id bigint PRIMARY KEY, note text)",
        "CREATE TABLE kept.ops.trips (id bigint, note text)",
        "CREATE TIERED TABLE trips RECENT depot.main.trips OLDER kept.ops.trips BY id",
        &format!("INSERT INTO trips SELECT n, 'trip ' || n FROM generate_series(1, {ROWS}) AS s (n)"),
    ] {
        product.stdout(&["sql", sql]);
    }
    let all = format!("{ROWS},{},{ROWS}", ROWS * (ROWS + 1) / 2);
    let seen = |product: &Product| {
        let sql = "SELECT count(*), sum(id), count(DISTINCT id) FROM trips";
        product.stdout(&["sql", "--format", "csv", sql]).lines().last().unwrap_or_default().to_owned()
    };
    let mut states = std::collections::BTreeMap::new();
    for n in 1..=kills {
        let to = (n * ROWS / (kills + 2)).to_string();
        let mut command = std::process::Command::new(cobble());
        command.args(["lake", "move-older", "trips", "--to", &to, "--service", &product.address]);
        command.args(["--token", &product.token()]);
        let mut running =
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(rand::rng().random_range(30..400)));
        product.kill();
        running.wait().unwrap();
        product = Product::empty(&lane);
        let state = product.stdout(&["sql", "--format", "csv", "SELECT moving FROM lane.state.tiers"]);
        *states
            .entry(state.lines().last().unwrap_or_default().rsplit(' ').nth(1).unwrap_or_default().to_owned())
            .or_insert(0) += 1;
        assert_eq!(seen(&product), all, "after kill {n}");
    }
    println!("{kills} kills: {states:?}");
    let last = (ROWS - 10).to_string();
    product.stdout(&["lake", "move-older", "trips", "--to", &last]);
    assert_eq!(seen(&product), all);
    let sides = "SELECT (SELECT count(*) FROM depot.main.trips), (SELECT count(*) FROM kept.ops.trips)";
    assert_eq!(
        product.stdout(&["sql", "--format", "csv", sides]).lines().last(),
        Some(format!("11,{}", ROWS - 11).as_str())
    );
    product.stop();
}

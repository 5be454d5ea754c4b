//! What cannot be a field is said once, where it stands.

use backwater::Table;

#[derive(Table)]
struct Port {
    #[table(id)]
    code: String,
    tags: Vec<String>,
}

#[derive(Table)]
struct Berth {
    #[table(id)]
    number: i64,
    depth: Option<f32>,
}

fn main() {}

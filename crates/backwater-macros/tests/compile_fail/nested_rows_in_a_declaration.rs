//! A table holds links; rows are nested in structs that read it.

use backwater::{Found, Table};

#[derive(Table)]
struct Vessel {
    #[table(id)]
    name: String,
}

#[derive(Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    vessel: Option<Found<Vessel>>,
}

fn main() {}

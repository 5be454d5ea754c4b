//! A link to one of several tables holds links, and an enum of numbers holds numbers only.

use backwater::{Link, OneOf, Table, Values};

#[derive(Table)]
struct Port {
    #[table(id)]
    code: String,
}

#[derive(OneOf)]
enum About {
    Port(Link<Port>),
    Vessel(i64),
}

#[derive(OneOf)]
enum Nothing {
    Port,
}

#[derive(Values)]
enum Deck {
    #[values(1)]
    Lower,
    Upper,
}

#[derive(Table)]
struct Seat {
    #[table(id = "text")]
    number: Level,
}

#[derive(Values)]
enum Level {
    #[values(1)]
    Lower,
}

fn main() {
    let _ = About::TABLES;
}

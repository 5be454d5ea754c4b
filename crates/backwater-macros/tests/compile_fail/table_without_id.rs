use backwater::Table;

#[derive(Table)]
struct Vessel {
    name: String,
}

fn main() {}

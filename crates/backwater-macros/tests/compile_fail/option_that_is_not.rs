use backwater::Table;

#[derive(Table)]
#[table(persisted = false)]
struct Vessel {
    #[table(id)]
    name: String,
}

fn main() {}

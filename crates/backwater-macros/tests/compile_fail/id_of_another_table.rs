use backwater::{Id, Snapshot, Table};

#[derive(Table)]
struct Vessel {
    #[table(id)]
    id: i64,
}

#[derive(Table)]
struct Sailing {
    #[table(id)]
    id: i64,
}

fn vessel_of(snapshot: &Snapshot, sailing: Id<Sailing>) -> Option<Vessel> {
    snapshot.table::<Vessel>().ok()?.get(sailing).here()
}

fn main() {}

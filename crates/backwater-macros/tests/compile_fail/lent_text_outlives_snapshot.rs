use backwater::{Cache, Table};

#[derive(Table)]
struct Vessel {
    #[table(id)]
    name: String,
}

#[derive(Table)]
#[table(of = Vessel)]
struct Name<'s> {
    name: &'s str,
}

fn names(cache: &Cache) -> Vec<&str> {
    let snapshot = cache.snapshot();
    let names = snapshot.table::<Name>().unwrap();
    names.here().map(|vessel| vessel.name).collect()
}

fn main() {}

use backwater::{Table, Transaction, error::Result};

#[derive(Table)]
struct Sailing {
    #[table(id)]
    id: i64,
    delay_min: Option<i64>,
}

fn report(tx: &mut Transaction) -> Result<()> {
    tx.table::<Sailing>()?.write(311, Sailing::DELAY_MIN, "fifteen")
}

fn main() {}

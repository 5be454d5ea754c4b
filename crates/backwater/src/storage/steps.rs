//! Numbered steps: what a program does to its rows when they are migrated.

use crate::change::Transaction;
use crate::error::Result;
use crate::sorting;
use crate::table::Snapshot;

/// What a step does: it reads the rows as the storage has them, and writes into the tables as they
/// are now.
pub(crate) type StepFn = Box<dyn Fn(&Snapshot, &mut Transaction) -> Result<()> + Send + Sync>;

/// One numbered step.
pub(crate) struct MigrationStep {
    pub(crate) number: u32,
    pub(crate) name: String,
    pub(crate) run: StepFn,
}

/// The numbered steps that a program knows, in their order.
#[derive(Default)]
pub(crate) struct Steps(Vec<MigrationStep>);

impl Steps {
    pub(crate) fn add(&mut self, step: MigrationStep) {
        self.0.push(step);
        sorting::few(&mut self.0, |one, other| one.number < other.number);
    }

    pub(super) fn last(&self) -> u32 {
        self.0.last().map_or(0, |step| step.number)
    }

    pub(super) fn after(&self, number: u32) -> &[MigrationStep] {
        &self.0[self.0.partition_point(|step| step.number <= number)..]
    }
}

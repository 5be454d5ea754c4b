//! Aggregates that follow their group: each takes a value in and lets it go again.

use std::collections::BTreeMap;

use super::exact::ExactSum;
use super::scalar::{Affinity, Scalar, Sorted};

/// An aggregate function.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Aggregate {
    CountRows,
    Count,
    Sum,
    Total,
    Average,
    Min,
    Max,
}

/// What an aggregate keeps of one group.
#[derive(Debug, Clone)]
pub(crate) enum Kept {
    Count(i64),
    Sum(Box<Sum>),
    Values(BTreeMap<Sorted, u64>),
}

/// A sum as SQL has it: whole while only whole numbers are in it.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sum {
    values: i64,
    not_whole: i64,
    whole: i128,
    rest: ExactSum,
}

/// A sum of whole numbers that 64 bits cannot hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Overflow;

impl Aggregate {
    pub(crate) fn empty(self) -> Kept {
        match self {
            Aggregate::CountRows | Aggregate::Count => Kept::Count(0),
            Aggregate::Sum | Aggregate::Total | Aggregate::Average => Kept::Sum(Box::default()),
            Aggregate::Min | Aggregate::Max => Kept::Values(BTreeMap::new()),
        }
    }

    /// Takes a row's value in (`times` 1) or lets it go (`times` -1).
    pub(crate) fn update(self, kept: &mut Kept, value: Scalar<'_>, times: i64) {
        if value.is_null() && self != Aggregate::CountRows {
            return;
        }
        match kept {
            Kept::Count(count) => *count += times,
            Kept::Sum(sum) => sum.add(value, times),
            Kept::Values(values) => {
                let value = Sorted(value.into_owned());
                if times > 0 {
                    *values.entry(value).or_default() += 1;
                } else if let Some(count) = values.get_mut(&value) {
                    *count -= 1;
                    if *count == 0 {
                        values.remove(&value);
                    }
                }
            }
        }
    }

    pub(crate) fn value(self, kept: &Kept) -> Result<Scalar<'static>, Overflow> {
        Ok(match kept {
            Kept::Count(count) => Scalar::Int(*count),
            Kept::Sum(sum) => match self {
                Aggregate::Total => sum.total(),
                Aggregate::Average if sum.values > 0 => match sum.total() {
                    Scalar::Real(total) => Scalar::Real(total / sum.values as f64),
                    other => other,
                },
                Aggregate::Sum if sum.values > 0 => sum.value()?,
                _ => Scalar::Null,
            },
            Kept::Values(values) => {
                let end = if self == Aggregate::Min {
                    values.first_key_value()
                } else {
                    values.last_key_value()
                };
                end.map_or(Scalar::Null, |(value, _)| value.0.clone())
            }
        })
    }
}

impl Sum {
    fn add(&mut self, value: Scalar<'_>, times: i64) {
        self.values += times;
        match value.under(Affinity::Numeric) {
            Scalar::Int(number) => self.whole += i128::from(times) * i128::from(number),
            other => {
                self.not_whole += times;
                match other.to_number() {
                    Scalar::Int(number) => self.rest.add(number as f64, times),
                    Scalar::Real(number) => self.rest.add(number, times),
                    _ => {}
                }
            }
        }
    }

    fn value(&self) -> Result<Scalar<'static>, Overflow> {
        if self.not_whole == 0 {
            return i64::try_from(self.whole).map(Scalar::Int).map_err(|_| Overflow);
        }
        Ok(self.total())
    }

    fn total(&self) -> Scalar<'static> {
        let mut sum = self.rest.clone();
        sum.add_int(self.whole);
        sum.value().map_or(Scalar::Null, Scalar::Real)
    }
}

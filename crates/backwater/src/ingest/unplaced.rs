//! Values of a response that went nowhere: neither the rule nor the schema has a place for them.

use std::hash::{Hash, Hasher};
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHasher};
use smallvec::SmallVec;

use crate::change::{Ingested, UnplacedValues};
use crate::schema::{Format, Rule, Schema, TableNo, TakenFrom, write_part};
use crate::sorting;

use super::building::TYPE_NAME;

/// This many places are distinguished.
const PLACES: usize = 256;
/// Up to so many are looked through one by one.
const FEW: usize = 16;
/// Members around the data that a standard has for other things.
const OF_GRAPHQL: [&str; 2] = ["/errors", "/extensions"];
const OF_JSON_API: [&str; 2] = ["/links", "/jsonapi"];

/// What was met so far.
#[derive(Default)]
pub(super) struct Unplaced {
    places: SmallVec<[Place; 1]>,
    /// Places by the hash of what leads there, once they are not few.
    known: FxHashMap<u64, UnplacedNo>,
    /// How many values there are at all places.
    pub(super) values: usize,
}

/// The number of a place where such values stand.
#[derive(Debug, Clone, Copy)]
pub(super) struct UnplacedNo(u32);

struct Place {
    /// The hash of what leads here.
    hash: u64,
    /// The table in whose rows it is.
    table: Option<TableNo>,
    /// A JSON Pointer from the row or the response on.
    pointer: String,
    values: usize,
}

impl Unplaced {
    /// The number of what a pointer leads to, or of a member inside of it.
    pub(super) fn number(
        &mut self,
        table: Option<TableNo>,
        way: &str,
        name: Option<&str>,
    ) -> UnplacedNo {
        let mut hasher = FxHasher::default();
        (table.map(TableNo::index), way, name).hash(&mut hasher);
        let hash = hasher.finish();
        let found = match self.known.is_empty() {
            true => {
                let place = self.places.iter().position(|place| place.hash == hash);
                place.map(|place| UnplacedNo(place as u32))
            }
            false => self.known.get(&hash).copied(),
        };
        found.unwrap_or_else(|| self.add_place(hash, table, way, name))
    }

    #[cold]
    fn add_place(
        &mut self,
        hash: u64,
        table: Option<TableNo>,
        way: &str,
        name: Option<&str>,
    ) -> UnplacedNo {
        let number = UnplacedNo(self.places.len().min(PLACES) as u32);
        if self.places.len() <= PLACES {
            let mut pointer = String::with_capacity(way.len() + name.map_or(0, str::len) + 4);
            pointer += way;
            let written = name.map_or(Ok(()), |name| write_part(&mut pointer, name));
            debug_assert!(written.is_ok(), "a string takes what is written to it");
            // The last one stands for all further ones.
            if self.places.len() == PLACES {
                "…".clone_into(&mut pointer);
            }
            self.places.push(Place { hash, table, pointer, values: 0 });
        }
        if self.places.len() == FEW {
            let numbered = self.places.iter().zip(0..);
            self.known.extend(numbered.map(|(place, number)| (place.hash, UnplacedNo(number))));
        } else if !self.known.is_empty() {
            self.known.insert(hash, number);
        }
        number
    }

    /// Counts a value, unless it says nothing.
    #[inline]
    pub(super) fn add(&mut self, number: UnplacedNo, raw: &str) {
        let is_value = usize::from(raw != "null");
        self.places[number.0 as usize].values += is_value;
        self.values += is_value;
    }

    /// What went nowhere, most of it first. Where it is what the last response had, the two share it.
    pub(super) fn finish(
        mut self,
        schema: &Schema,
        rule: &Rule,
        last: Option<&Ingested>,
    ) -> Arc<[UnplacedValues]> {
        if self.values == 0 {
            return Arc::default();
        }
        let name = |place: &Place| place.table.map(|table| &schema.table(table).name);
        let is_same = |(place, last): (&Place, &UnplacedValues)| {
            place.values == last.values
                && *place.pointer == *last.pointer
                && name(place) == last.table.as_ref()
        };
        let last = last.filter(|last| last.rule == rule.name).map(|last| &last.unplaced);
        let last = last.filter(|last| last.len() == self.places.len());
        if let Some(last) = last.filter(|last| self.places.iter().zip(last.iter()).all(is_same)) {
            return last.clone();
        }
        let taken = rule.taken.iter().filter_map(|(_, from)| match from {
            TakenFrom::Response(pointer) => Some(pointer.to_string()),
            TakenFrom::Element(_) => None,
        });
        let deletes = rule.deletes_if.iter().map(|(pointer, _)| pointer.to_string());
        let of_rule: Vec<String> = taken.chain(deletes).collect();
        let is_of_rule = |pointer: &str| of_rule.iter().any(|known| known == pointer);
        let means_something = |place: &Place| {
            let name = place.pointer.rsplit('/').next().unwrap_or_default();
            let of_standard: &[&str] = match rule.format {
                _ if place.table.is_some() => &[],
                Format::GraphQl => &OF_GRAPHQL,
                Format::JsonApi => &OF_JSON_API,
                Format::Json | Format::Ndjson => &[],
            };
            let is_known = of_standard.contains(&&*place.pointer)
                || (place.table.is_none() && is_of_rule(&place.pointer));
            place.values > 0 && name != TYPE_NAME && !is_known
        };
        self.places.retain(|place| means_something(place));
        sorting::by_key(&mut self.places, |place| u64::MAX - place.values as u64);
        let told = self.places.iter().map(|place| UnplacedValues {
            table: name(place).cloned(),
            pointer: place.pointer.as_str().into(),
            values: place.values,
        });
        told.collect()
    }
}

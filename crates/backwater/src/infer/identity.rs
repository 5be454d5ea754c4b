//! What identifies objects: a member, alone or with what is around them.

use std::collections::HashSet;

use rustc_hash::{FxHashMap, FxHashSet};

use super::classes::{Class, Row, values_of};
use super::evidence::{Cell, ObjectsNo, View, World, hash};
use super::words::{AMONG, FOREIGN, NAMED, SURE, id_rank};

/// What identifies the rows of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Identity {
    /// A member of theirs.
    Own(String),
    /// A member, among those of one row of that table around them.
    InParent(String, usize),
    /// A member if there is one, and what the request's URL says.
    InRequest(Option<String>),
    /// The name by which they are members of an object.
    Key,
}

impl Identity {
    /// The member that it is, or is part of.
    pub(super) fn member(&self) -> Option<&str> {
        match self {
            Identity::Own(name) | Identity::InParent(name, _) => Some(name),
            Identity::InRequest(name) => name.as_deref(),
            Identity::Key => None,
        }
    }
}

/// How well a member identifies objects.
#[derive(Default)]
pub(super) struct Trial {
    pub(super) ids: FxHashSet<u64>,
    /// Objects of one id in one response, and how many of them are different entities.
    pairs: usize,
    against: usize,
    /// The same for responses to requests with other variables.
    pairs_over: usize,
    pub(super) against_over: usize,
    /// Objects of one id in one array.
    twice: usize,
    /// Arrays of several objects.
    arrays: usize,
    rows: usize,
}

impl Trial {
    fn of(class: &Class<'_>, name: &str) -> Option<Self> {
        let mut trial = Trial::default();
        let name = hash(name);
        let mut in_document: FxHashMap<(u64, u32), &Row> = FxHashMap::default();
        let mut over: FxHashMap<u64, &Row> = FxHashMap::default();
        let mut in_array: FxHashSet<(u64, u32, u32)> = FxHashSet::default();
        let mut sizes: FxHashMap<(u32, u32), usize> = FxHashMap::default();
        for row in &class.rows {
            let id = row.cell(name)?.id();
            trial.rows += 1;
            trial.ids.insert(id);
            *sizes.entry((row.document, row.array)).or_default() += 1;
            trial.twice += usize::from(!in_array.insert((id, row.document, row.array)));
            match in_document.entry((id, row.document)) {
                std::collections::hash_map::Entry::Vacant(free) => drop(free.insert(row)),
                std::collections::hash_map::Entry::Occupied(first) => {
                    trial.pairs += 1;
                    trial.against += usize::from(first.get().is_against(row, name));
                }
            }
            let first = *over.entry(id).or_insert(row);
            let documents = &class.world.documents;
            let (a, b) = (documents[first.document as usize], documents[row.document as usize]);
            if a.path == b.path && a.variables != b.variables {
                trial.pairs_over += 1;
                trial.against_over += usize::from(first.is_against(row, name));
            }
        }
        trial.arrays = sizes.values().filter(|size| **size > 1).count();
        Some(trial)
    }

    /// Whether objects of one id are different entities too often.
    fn speaks_against(&self) -> bool {
        self.against * 10 > self.pairs
    }

    fn speaks_against_over(&self) -> bool {
        self.against_over * 4 > self.pairs_over
    }
}

impl Class<'_> {
    /// Members that could be an id, the likeliest first.
    fn candidates(&self) -> Vec<(usize, String)> {
        let seen = self.seen();
        let members = View::members(self.world, &self.objects);
        let fitting = members.into_iter().filter_map(|member| {
            let counts = member.view.counts();
            let is_id = counts.seen == seen && member.present == seen && counts.ids() == seen;
            let rank = id_rank(member.name, &self.role)?;
            is_id.then(|| (rank, member.name.to_owned()))
        });
        let mut candidates: Vec<_> = fitting.collect();
        candidates.sort_by_key(|(rank, _)| *rank);
        candidates
    }
}

/// The candidates for what identifies objects.
pub(super) enum Own {
    /// It is that.
    Sure(Identity, Trial),
    /// It may be one of these, the likeliest first; where it says so, no two objects are alike.
    Maybe(Vec<(String, Trial, bool)>),
}

/// What identifies objects wherever they are.
pub(super) fn own(class: &Class<'_>) -> Own {
    let seen = class.seen();
    let mut maybe = Vec::new();
    for (rank, name) in class.candidates() {
        let Some(trial) = Trial::of(class, &name) else { continue };
        let (ids, repeats) = (trial.ids.len(), seen - trial.rows.min(seen));
        if trial.speaks_against() {
            continue;
        }
        if trial.pairs_over > 0 && trial.speaks_against_over() && trial.twice == 0 {
            return Own::Sure(Identity::InRequest(Some(name)), trial);
        }
        if rank >= AMONG {
            continue;
        }
        let is_sure = match rank {
            ..=SURE => true,
            // A type by its name is an entity already.
            NAMED => ids > 1 || class.type_name().is_some(),
            FOREIGN => false,
            // Only objects that occur again and agree show that such a member is an id.
            _ => ids > 1 && trial.against == 0 && repeats * 2 >= ids,
        };
        if is_sure && maybe.is_empty() {
            return Own::Sure(Identity::Own(name), trial);
        }
        let unlike = rank == FOREIGN && ids > 2 && trial.pairs == 0;
        maybe.push((name, trial, unlike || is_sure));
    }
    Own::Maybe(maybe)
}

/// What identifies objects among those of one row around them.
pub(super) fn in_parent(
    class: &Class<'_>,
    of: &[Option<usize>],
    identities: &[Identity],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let parents = class.parents()?;
    let parent = of[parents.first()?.0 as usize]?;
    let same = parents.iter().all(|objects| of[objects.0 as usize] == Some(parent));
    if !same || !matches!(identities.get(parent), Some(Identity::Own(_))) {
        return None;
    }
    class.candidates().into_iter().find_map(|(_, name)| {
        let trial = Trial::of(class, &name)?;
        let shows = trial.arrays > 1 && trial.twice == 0;
        let evidence = format!("no two alike in {} arrays of several", trial.arrays);
        shows.then_some((Identity::InParent(name, parent), trial.ids, evidence))
    })
}

/// The name by which objects are members of a whole response, or of what is no row itself.
pub(super) fn in_map(
    class: &Class<'_>,
    maps: &HashSet<ObjectsNo>,
    of: &[Option<usize>],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let mut ids = FxHashSet::default();
    for number in &class.objects {
        let map = class.world.place(*number).parent.filter(|parent| maps.contains(parent))?;
        let is_root =
            class.world.place(map).parent.is_none_or(|parent| of[parent.0 as usize].is_none());
        let map = class.world.objects(map);
        if !is_root {
            return None;
        }
        ids.extend(map.members.iter().map(|member| Cell::of_text(&member.name).id()));
        ids.extend(map.keyed.iter().flat_map(|keyed| keyed.names.iter().copied()));
    }
    Some((Identity::Key, ids, "the names of the members".to_owned()))
}

/// The variables of the request, for a single object that is the whole answer.
pub(super) fn in_request(
    class: &Class<'_>,
    of: &[Option<usize>],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let world = class.world;
    let alone = |number: &ObjectsNo| {
        let place = world.place(*number);
        place.parent.is_none() && !place.many && !holds_entity(world, of, *number)
    };
    let varies = |row: &Row| world.documents[row.document as usize].variables != 0;
    let is_one = class.objects.iter().all(alone) && class.rows.iter().all(varies);
    let answers: FxHashSet<u64> =
        class.rows.iter().map(|row| world.documents[row.document as usize].variables).collect();
    let note = format!("{} different URLs", answers.len());
    (is_one && !class.rows.is_empty()).then_some((Identity::InRequest(None), answers, note))
}

/// Whether an entity stands somewhere inside of objects.
fn holds_entity(world: &World, of: &[Option<usize>], number: ObjectsNo) -> bool {
    let mut places = values_of(world, number);
    while let Some(place) = places.pop() {
        let shape = world.at(place);
        places.extend(shape.elements);
        for (_, inside) in &shape.objects {
            if of[inside.0 as usize].is_some() {
                return true;
            }
            places.extend(values_of(world, *inside));
        }
    }
    false
}

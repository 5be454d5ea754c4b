//! What identifies objects: a member, alone or with what is around them.

use std::collections::HashSet;
use std::collections::hash_map::Entry;
use std::iter::successors;
use std::sync::LazyLock;

use rustc_hash::{FxHashMap, FxHashSet};

use super::classes::{Agreement, Class, values_of};
use super::evidence::{Cell, Members, ObjectsNo, Seen, ShapeNo, View, World, hash, way};
use super::words::{
    AMONG, CONTENT, FOREIGN, NAMED, SURE, id_rank, is_called_by, is_content, is_of_place,
    is_surely_an_id,
};

/// From this many different values on, a name may identify what it names.
const ENOUGH: usize = 4;
/// From this many objects on, a member may be their key by what its values are like.
const MANY: usize = 5;
/// A longer word is no key.
const KEY: usize = 24;
/// One in this many records may lack the id, such as a post that was never saved, or be no object at
/// all: it is left out.
pub(super) const FEW_AMISS: usize = 20;
/// From this many different values on, a place may refer to keys.
const REFERRING: usize = 3;

/// What identifies the rows of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Identity {
    /// A member of theirs.
    Own(String),
    /// A member of an object in them.
    Inside(String, String),
    /// A member, among those of one row of that table around them.
    InParent(String, usize),
    /// A member if there is one, and what the request's URL says.
    InRequest(Option<String>),
    /// The name by which they are members of an object.
    Key,
    /// What a schema says already, in several members; whether all of these are there.
    Declared(bool),
}

impl Identity {
    /// The member that it is, or is part of.
    pub(super) fn member(&self) -> Option<&str> {
        match self {
            Identity::Own(name) | Identity::InParent(name, _) => Some(name),
            Identity::InRequest(name) => name.as_deref(),
            Identity::Inside(..) | Identity::Key | Identity::Declared(_) => None,
        }
    }

    /// Whether it identifies a row wherever that stands.
    pub(super) fn is_own(&self) -> bool {
        matches!(self, Identity::Own(_) | Identity::Inside(..) | Identity::Declared(true))
    }

    /// The hash of the way to the member that it is, or is part of.
    pub(super) fn cell(&self) -> Option<u64> {
        match self {
            Identity::Inside(outer, inner) => Some(way(hash(outer), hash(inner))),
            _ => self.member().map(hash),
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
    /// The same for objects of one array, and in different arrays of one response, by what lasts of
    /// them.
    together: Numbering,
    apart: Numbering,
    /// The same for responses to requests with other variables.
    pub(super) over: Numbering,
    /// Objects of one id anywhere that are different entities.
    contradictions: usize,
    /// Objects of one id in one array.
    twice: usize,
    /// Arrays of several objects.
    arrays: usize,
    rows: usize,
}

/// Whether ids begin anew: in each array, or in the response to each request.
#[derive(Default)]
pub(super) struct Numbering {
    pairs: usize,
    /// Pairs of different entities.
    pub(super) others: usize,
    /// Pairs that differ in most of what they have.
    differ: usize,
    ids: FxHashSet<u64>,
}

/// Whether an id is 0 or 1, with which sequences begin.
fn is_first(id: u64) -> bool {
    static FIRST: LazyLock<[u64; 2]> = LazyLock::new(|| ["0", "1"].map(|number| hash(number) | 1));
    FIRST.contains(&id)
}

impl Numbering {
    fn add(&mut self, id: u64, agreement: &Agreement) {
        // Where nothing lasts, only the first numbers of a sequence show that it begins anew.
        let others = agreement.are_others();
        let others = others.unwrap_or_else(|| agreement.mostly_differ() && is_first(id));
        self.pairs += 1;
        self.others += usize::from(others);
        self.differ += usize::from(agreement.mostly_differ());
        if others {
            self.ids.insert(id);
        }
    }

    /// Whether ids with a sure name begin anew: most pairs are different entities, and these have
    /// several ids or the first number of a sequence.
    fn surely_begins(&self) -> bool {
        let several = || self.ids.len() > 1 || self.ids.iter().any(|id| is_first(*id));
        self.others * 2 > self.pairs && several()
    }

    /// The same for ids with a weaker name: a quarter of the pairs is enough.
    fn maybe_begins(&self) -> bool {
        self.differ.max(self.others) * 4 > self.pairs
    }
}

impl Trial {
    /// Tries the member with that hash of the way to it, which all objects have.
    pub(super) fn of(class: &Class<'_>, name: u64) -> Option<Self> {
        class
            .rows
            .iter()
            .all(|row| class.cell(row, name).is_some())
            .then(|| Self::of_some(class, name))
    }

    /// The same where some may lack it.
    fn of_some(class: &Class<'_>, name: u64) -> Self {
        let mut trial = Trial::default();
        let mut over: FxHashMap<u64, &Seen> = FxHashMap::default();
        // Of one document after the other.
        let mut document = None;
        let mut in_document: FxHashMap<u64, &Seen> = FxHashMap::default();
        let mut in_array: FxHashSet<(u64, u32)> = FxHashSet::default();
        let mut sizes: FxHashMap<u32, usize> = FxHashMap::default();
        let several =
            |sizes: &FxHashMap<u32, usize>| sizes.values().filter(|size| **size > 1).count();
        for row in class.rows.iter().copied() {
            let Some(id) = class.id(row, name) else { continue };
            if document.replace(row.document) != Some(row.document) {
                trial.arrays += several(&sizes);
                in_document.clear();
                in_array.clear();
                sizes.clear();
            }
            trial.rows += 1;
            trial.ids.insert(id);
            *sizes.entry(row.array).or_default() += 1;
            trial.twice += usize::from(!in_array.insert((id, row.array)));
            let compared = |first: &Seen| class.agreement(first, row, name);
            match in_document.entry(id) {
                Entry::Vacant(free) => drop(free.insert(row)),
                Entry::Occupied(first) => {
                    let agreement = compared(first.get());
                    trial.pairs += 1;
                    trial.against += usize::from(agreement.mostly_differ());
                    let is_together = first.get().array == row.array;
                    let of = if is_together { &mut trial.together } else { &mut trial.apart };
                    of.add(id, &agreement);
                }
            }
            let first = *over.entry(id).or_insert(row);
            let agreement = compared(first);
            let differs = agreement.are_others() == Some(true) || agreement.mostly_differ();
            trial.contradictions += usize::from(differs);
            let documents = &class.world.documents;
            let (a, b) = (documents[first.document as usize], documents[row.document as usize]);
            if a.path == b.path && a.variables != b.variables {
                trial.over.add(id, &agreement);
            }
        }
        trial.arrays += several(&sizes);
        trial
    }

    /// Whether objects of one id are different entities too often.
    fn speaks_against(&self, is_sure: bool) -> bool {
        let begins = || self.apart.surely_begins() || self.together.surely_begins();
        if is_sure { begins() } else { self.against * 10 > self.pairs }
    }

    /// What shows that a member which is the id by a schema is none.
    pub(super) fn doubt(&self, member: &str) -> Option<String> {
        let is_sure = is_surely_an_id(member);
        let times = match is_sure {
            true if self.speaks_against(true) || self.is_of_request(true) => {
                self.apart.others + self.together.others + self.over.others
            }
            true => 0,
            false => self.contradictions,
        };
        (times > 0)
            .then(|| format!("objects with the same {member} are different things, {times} times"))
    }

    /// Whether no two objects of one array have it alike, and no entity is contradicted.
    fn is_key(&self, class: &Class<'_>) -> bool {
        let is_each = || self.ids.len() == self.rows && class.are_responses_with_names();
        let several = self.arrays > 0 || is_each();
        self.ids.len() >= MANY && several && self.twice == 0 && self.contradictions == 0
    }

    /// Whether the ids are those of one response only.
    fn is_of_request(&self, is_sure: bool) -> bool {
        let over = &self.over;
        let begins = if is_sure { over.surely_begins() } else { over.maybe_begins() };
        over.pairs > 0 && begins && self.twice == 0
    }
}

impl Class<'_> {
    /// The one member that holds an entity, beside others that say more than where it stands.
    fn wrapped(&self, of: &[Option<usize>]) -> Option<(String, u64)> {
        let members = View::members(self.world, &self.objects);
        let mut entities = members.iter().filter_map(|member| {
            let objects = member.view.objects();
            let is_row = objects.iter().any(|objects| of[objects.0 as usize].is_some());
            is_row.then_some((member, objects))
        });
        let ((member, objects), other) = (entities.next()?, entities.next());
        let counts = member.view.counts();
        let always = member.present == self.seen() && counts.objects == counts.seen;
        let inside = View::members(self.world, &objects);
        let id = inside.iter().find(|inner| is_surely_an_id(inner.name))?;
        let way = way(hash(member.name), hash(id.name));
        let says_more =
            members.iter().any(|other| other.name != member.name && !is_of_place(other.name));
        (always && says_more && other.is_none()).then(|| (member.name.to_owned(), way))
    }

    /// Whether all members but one hold plain values, and none of them could be an id.
    fn is_plain_beside(&self, row: &str) -> bool {
        let members = View::members(self.world, &self.objects);
        let mut others = members.iter().filter(|member| member.name != row);
        self.candidates().is_empty() && others.all(|member| member.view.counts().are_plain())
    }

    /// Whether so many of the objects may lack an id that the others have: they are records, which
    /// are left out one by one, and few of them.
    fn may_lack(&self, lacking: usize) -> bool {
        let is_row = |objects: ObjectsNo| {
            let has_id = |member: &Members<'_>| is_surely_an_id(member.name);
            let members = View::members(self.world, &[objects]);
            self.world.place(objects).many || members.iter().any(has_id)
        };
        let are_records = |objects: &ObjectsNo| {
            let place = self.world.place(*objects);
            let mut around = successors(place.parent, |it| self.world.place(*it).parent);
            let is_one_of_many = place.many || place.parent.is_none() && !place.single;
            is_one_of_many && !around.any(is_row)
        };
        lacking * FEW_AMISS <= self.seen() && self.objects.iter().all(are_records)
    }

    /// How many objects lack a member that is their id.
    pub(super) fn lacking(&self, name: &str) -> usize {
        let members = View::members(self.world, &self.objects);
        let member = members.iter().find(|member| member.name == name);
        self.seen() - member.map_or(0, |member| member.ids().min(self.seen()))
    }

    /// Members that could be an id, the likeliest first.
    fn candidates(&self) -> Vec<(usize, String)> {
        let seen = self.seen();
        let members = View::members(self.world, &self.objects);
        let fitting = members.into_iter().filter_map(|member| {
            let counts = member.view.counts();
            let rank = id_rank(member.name, &self.role)?;
            let is_id = match counts.seen == seen && member.ids() == seen {
                false => rank <= SURE && counts.seen <= seen && self.may_lack(seen - member.ids()),
                true => true,
            };
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
    Sure(Identity, Box<Trial>),
    /// It may be one of these, the likeliest first; where it says so, no two objects are alike.
    Maybe(Vec<(String, Trial, bool)>),
}

/// What identifies objects wherever they are.
pub(super) fn own(class: &Class<'_>) -> Own {
    let seen = class.seen();
    let mut maybe = Vec::new();
    for (rank, name) in class.candidates() {
        let trial = Trial::of_some(class, hash(&name));
        let (ids, repeats) = (trial.ids.len(), seen - trial.ids.len());
        if trial.speaks_against(rank <= SURE) {
            continue;
        }
        // What may be the id of something else, or a place in a list, identifies nothing that is alone.
        let is_alone = rank >= FOREIGN && trial.arrays == 0;
        if !is_alone && trial.is_of_request(rank <= SURE) {
            return Own::Sure(Identity::InRequest(Some(name)), Box::new(trial));
        }
        // A code may contradict itself now and then, a name never.
        let contradicts = match rank {
            ..=SURE => false,
            CONTENT | NAMED => trial.contradictions * 10 > repeats,
            _ => trial.contradictions > 0,
        };
        if rank >= AMONG || contradicts {
            continue;
        }
        let is_sure = match rank {
            ..=SURE => true,
            CONTENT => ids > 1 && class.objects.iter().any(|it| class.world.place(*it).many),
            // A type by its name is an entity already.
            NAMED => ids > 1 || class.type_name().is_some(),
            FOREIGN => false,
            // A name identifies if many values are each met again.
            _ => ids >= ENOUGH && repeats >= ids * 2,
        };
        if is_sure && maybe.is_empty() {
            return Own::Sure(Identity::Own(name), Box::new(trial));
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
    if !same || !identities.get(parent).is_some_and(Identity::is_own) {
        return None;
    }
    // What wraps a row and is a member of a link's entries is no row itself.
    if class.wrapped(of).is_some_and(|(row, _)| class.is_plain_beside(&row)) {
        return None;
    }
    among(class, of).map(|(name, trial)| {
        let evidence = format!("no two alike in {} arrays of several", trial.arrays);
        (Identity::InParent(name, parent), trial.ids, evidence)
    })
}

/// What identifies objects among those of one response, of which each request has its own.
pub(super) fn in_list(
    class: &Class<'_>,
    of: &[Option<usize>],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let documents = &class.world.documents;
    let varies = |row: &&Seen| documents[row.document as usize].variables != 0;
    if !class.are_listed(of) || !class.rows.iter().all(varies) {
        return None;
    }
    among(class, of).map(|(name, trial)| {
        let note = format!("no two alike in {} responses with several", trial.arrays);
        (Identity::InRequest(Some(name)), trial.ids, note)
    })
}

/// A member that no two objects of one array have alike: one that is named like an id, or the row
/// that the objects are about.
fn among(class: &Class<'_>, of: &[Option<usize>]) -> Option<(String, Trial)> {
    let named = class.candidates().into_iter().map(|(_, name)| (hash(&name), name));
    let wrapped = class.wrapped(of).map(|(name, way)| (way, name));
    named.chain(wrapped).find_map(|(cell, name)| {
        let trial = Trial::of(class, cell)?;
        (trial.arrays > 1 && trial.twice == 0).then_some((name, trial))
    })
}

/// What may be the key of objects; the lower the rank, the likelier.
struct Candidate {
    rank: usize,
    identity: Identity,
    trial: Trial,
    note: String,
}

impl Candidate {
    /// A member whose values are short words, no two alike, that others refer to or that are all of
    /// one form.
    fn of_words(class: &Class<'_>, identity: Identity, view: &View<'_>) -> Option<Self> {
        let (counts, words, seen) = (view.counts(), view.words(), class.seen());
        let is_plain = |word: &str| !word.is_empty() && !word.contains(char::is_whitespace);
        let are_words = counts.seen == seen
            && counts.texts - counts.odd - counts.times == seen
            && words.seen.iter().all(|(word, _)| is_plain(word) && word.len() <= KEY);
        let cell = identity.cell().filter(|_| are_words)?;
        let trial = Trial::of(class, cell).filter(|trial| trial.is_key(class))?;
        let length = words.seen.first().map_or(0, |(word, _)| word.len());
        let is_code = |word: &str| {
            let capital = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit();
            word.len() == length && word.chars().all(capital)
        };
        let all = trial.ids.len();
        let (rank, note) = match referring(class.world, &view.shapes, &trial.ids) {
            Some(place) => (0, format!("no two of {all} alike, and {place} refers to them")),
            None if words.seen.iter().all(|(word, _)| is_code(word)) => {
                (1, format!("no two of {all} alike, and all of one form"))
            }
            None => return None,
        };
        Some(Self { rank, identity, trial, note })
    }

    /// A member of what the objects consist of whose name says that it is an id.
    fn of_content(class: &Class<'_>, identity: Identity) -> Option<Self> {
        let trial = Trial::of(class, identity.cell()?).filter(|trial| trial.twice == 0)?;
        let note = "its name says that it is an id".to_owned();
        Some(Self { rank: 0, identity, trial, note })
    }

    /// What is called like a key goes before what only looks like one.
    fn order(&self) -> (usize, bool) {
        let is_called = match &self.identity {
            Identity::Own(name) | Identity::Inside(_, name) => is_called_by(name),
            _ => false,
        };
        (self.rank, !is_called)
    }
}

/// A member, of the objects or of what they consist of, that is a key by what its values are like.
pub(super) fn natural(
    class: &Class<'_>,
    of: &[Option<usize>],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    if !class.are_listed(of) && !class.are_responses_with_names() {
        return None;
    }
    let seen = class.seen();
    let mut candidates: Vec<Candidate> = Vec::new();
    let members = View::members(class.world, &class.objects);
    for member in members.iter().filter(|it| it.present == seen && !is_of_place(it.name)) {
        let identity = Identity::Own(member.name.to_owned());
        candidates.extend(Candidate::of_words(class, identity, &member.view));
        let (counts, objects) = (member.view.counts(), member.view.objects());
        let is_row = objects.iter().any(|objects| of[objects.0 as usize].is_some());
        if counts.objects < counts.seen || is_row {
            continue;
        }
        for inner in View::members(class.world, &objects) {
            let identity = Identity::Inside(member.name.to_owned(), inner.name.to_owned());
            let is_id = is_surely_an_id(inner.name) && is_content(member.name);
            let always = inner.ids() == seen;
            candidates.extend(match is_id && always {
                true => Candidate::of_content(class, identity),
                false => Candidate::of_words(class, identity, &inner.view),
            });
        }
    }
    let best = candidates.into_iter().min_by_key(Candidate::order)?;
    Some((best.identity, best.trial.ids, best.note))
}

/// A place whose values are all among these ids: what refers to them.
fn referring<'w>(world: &'w World, own: &[ShapeNo], ids: &FxHashSet<u64>) -> Option<&'w str> {
    let refers = world.shapes.iter().enumerate().find(|(number, shape)| {
        let is_own = own.contains(&ShapeNo(*number as u32));
        !is_own
            && shape.place.many
            && shape.ids.len() >= REFERRING
            && shape.counts.texts == shape.counts.seen
            && shape.ids.len() < ids.len()
            && shape.ids.is_subset(ids)
    });
    refers.map(|(_, shape)| &*shape.place.role)
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
    let varies = |row: &&Seen| world.documents[row.document as usize].variables != 0;
    let is_one = class.objects.iter().all(alone) && class.rows.iter().all(varies);
    let answers: FxHashSet<u64> =
        class.rows.iter().map(|row| world.documents[row.document as usize].variables).collect();
    let note = match answers.len() {
        1 => "1 URL".to_owned(),
        several => format!("{several} different URLs"),
    };
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

//! Which objects are entities of their own, and which of them, met in different places, are of one
//! table.

use std::collections::{BTreeMap, HashSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::claims::Claims;
use super::classes::{Agreement, Class, Kinds, Unions, classes};
use super::evidence::{ObjectsNo, World, hash};
use super::identity::{Identity, Own, Trial, in_list, in_map, in_parent, in_request, natural, own};
use super::words::{Taken, is_position, is_reserved, names_a_thing, singular, snake, usable};
use crate::schema::TableNo;

/// A table that is proposed.
pub(super) struct Entity {
    pub(super) name: String,
    pub(super) objects: Vec<ObjectsNo>,
    pub(super) identity: Identity,
    /// The hashes of its ids.
    pub(super) ids: FxHashSet<u64>,
    /// Names under which it was met, in the singular.
    pub(super) roles: Vec<String>,
    /// How GraphQL and JSON:API call it.
    pub(super) type_name: Option<String>,
    /// What is to be said of the id.
    pub(super) note: String,
    /// How many of its objects lack an id, and are left out.
    pub(super) lacking: usize,
    /// The table of a schema that they are rows of already.
    pub(super) declared: Option<TableNo>,
    /// What shows that what is their id by the schema is none.
    pub(super) doubt: Option<String>,
}

/// What is proposed, and which objects belong to it.
pub(super) struct Entities {
    pub(super) list: Vec<Entity>,
    pub(super) of: Vec<Option<usize>>,
    /// Objects whose members go by ids.
    pub(super) maps: HashSet<ObjectsNo>,
    /// Tables of a schema that hold the same things, and how many.
    pub(super) alike: Alike,
}

impl Entities {
    /// The table of some objects, if all are of one.
    pub(super) fn only(&self, objects: &[ObjectsNo]) -> Option<usize> {
        let first = self.of[objects.first()?.0 as usize]?;
        objects.iter().all(|objects| self.of[objects.0 as usize] == Some(first)).then_some(first)
    }

    pub(super) fn any(&self, objects: &[ObjectsNo]) -> bool {
        objects.iter().any(|objects| self.of[objects.0 as usize].is_some())
    }
}

/// A class with what identifies its objects.
struct Known<'w> {
    class: Class<'w>,
    identity: Identity,
    trial: Trial,
    names: FxHashSet<u64>,
    /// The first row of each id, by its place.
    first: FxHashMap<u64, usize>,
    /// The table of a schema that they are rows of already.
    declared: Option<TableNo>,
}

impl<'w> Known<'w> {
    fn new(class: Class<'w>, identity: Identity, trial: Trial) -> Self {
        let names = class.names();
        let first = first_of(&class, &identity);
        Self { class, identity, trial, names, first, declared: None }
    }
}

/// The first row of each id.
fn first_of(class: &Class<'_>, identity: &Identity) -> FxHashMap<u64, usize> {
    let id = identity.cell();
    let mut first = FxHashMap::default();
    for (place, row) in class.rows.iter().enumerate() {
        if let Some(id) = id.and_then(|id| class.id(row, id)) {
            first.entry(id).or_insert(place);
        }
    }
    first
}

/// What requests call values, with the values' hashes: names for the tables of which they are ids.
pub(super) type Called = [(String, Vec<u64>)];

fn hints(called: &Called, ids: &FxHashSet<u64>) -> Vec<String> {
    let fits = |(_, values): &&(String, Vec<u64>)| values.iter().all(|value| ids.contains(value));
    called.iter().filter(fits).map(|(name, _)| name.clone()).collect()
}

/// Finds the entities in what was seen; which objects are rows of tables already is said by claims.
pub(super) fn entities(world: &World, called: &Called, claims: Option<&Claims<'_>>) -> Entities {
    let kinds = Kinds::of(world);
    let (mut known, mut maybe, mut rest) = (Vec::new(), Vec::new(), Vec::new());
    for class in classes(&kinds) {
        if let Some((table, identity, trial)) = claims.and_then(|claims| claims.identity(&class)) {
            let declared = Some(table);
            known.push(Known { declared, ..Known::new(class, identity, trial) });
            continue;
        }
        match own(&class) {
            Own::Sure(identity, trial) => known.push(Known::new(class, identity, *trial)),
            Own::Maybe(candidates) => maybe.push((class, candidates)),
        }
    }
    let roles_known: HashSet<String> = known.iter().map(|known| known.class.role.clone()).collect();
    for (class, candidates) in maybe {
        match adopted(class, candidates, &known, &roles_known) {
            Ok(adopted) => known.push(adopted),
            Err(class) => rest.push(*class),
        }
    }
    known.sort_by_key(|known| known.class.objects[0]);
    let mut of: Vec<Option<usize>> = vec![None; world.objects.len()];
    let (mut list, mut taken) = (Vec::new(), Taken::default());
    claims.iter().flat_map(|claims| claims.names()).for_each(|name| drop(taken.take(name)));
    let (joined, alike) = joined(&known);
    let mut known: Vec<Option<Known<'_>>> = known.into_iter().map(Some).collect();
    for set in joined {
        let members: Vec<Known<'_>> = set.iter().filter_map(|it| known[*it].take()).collect();
        let mut entity = entity(&kinds, &members, called, &mut taken);
        if let Some((declared, claims)) = entity.declared.zip(claims) {
            entity.name = claims.name(declared).to_owned();
        }
        entity.objects.iter().for_each(|objects| of[objects.0 as usize] = Some(list.len()));
        list.push(entity);
    }
    rest.sort_by_key(|class| class.objects[0]);
    let identities: Vec<Identity> = list.iter().map(|entity| entity.identity.clone()).collect();
    for class in rest {
        let found = in_parent(&class, &of, &identities)
            .or_else(|| natural(&class, &of))
            .or_else(|| in_list(&class, &of))
            .or_else(|| in_map(&class, &kinds.maps, &of))
            .or_else(|| in_request(&class, &of));
        let Some((identity, ids, note)) = found else { continue };
        let number = list.len();
        class.objects.iter().for_each(|objects| of[objects.0 as usize] = Some(number));
        list.push(Entity {
            name: name(&kinds, &class.objects, None, &hints(called, &ids), &mut taken),
            roles: roles(&kinds, &class.objects),
            objects: class.objects,
            identity,
            ids,
            type_name: None,
            note,
            lacking: 0,
            declared: None,
            doubt: None,
        });
    }
    Entities { list, of, maps: kinds.maps, alike }
}

/// The table of classes that are one.
fn entity(kinds: &Kinds<'_>, members: &[Known<'_>], called: &Called, taken: &mut Taken) -> Entity {
    let objects = members.iter().flat_map(|known| known.class.objects.iter().copied());
    let objects: Vec<ObjectsNo> = objects.collect();
    let type_name = members.iter().find_map(|known| known.class.type_name()).map(str::to_owned);
    let ids = members.iter().flat_map(|known| known.trial.ids.iter().copied());
    let ids: FxHashSet<u64> = ids.collect();
    let over: usize = members.iter().map(|known| known.trial.over.others).sum();
    let identity = members[0].identity.clone();
    let note = match identity {
        Identity::InRequest(_) => {
            format!("the same id in other answers is another entity, {over} times")
        }
        _ if ids.len() < 2 => "only one value, but its name says that it is an id".to_owned(),
        _ => format!("{} different values", ids.len()),
    };
    let lacking = match &identity {
        Identity::Own(name) => members.iter().map(|known| known.class.lacking(name)).sum(),
        _ => 0,
    };
    let declared = members.iter().find_map(|known| known.declared);
    let name = match declared {
        // It has its name.
        Some(_) => String::new(),
        None => name(kinds, &objects, type_name.as_deref(), &hints(called, &ids), taken),
    };
    let doubt = declared
        .and(identity.member())
        .and_then(|member| members.iter().find_map(|known| known.trial.doubt(member)));
    Entity {
        name,
        lacking,
        declared,
        doubt,
        identity,
        roles: roles(kinds, &objects),
        ids,
        type_name,
        note,
        objects,
    }
}

/// A class whose id is uncertain: the member that identifies the same entities elsewhere, or the
/// one that is called like an id of its own.
fn adopted<'w>(
    class: Class<'w>,
    mut candidates: Vec<(String, Trial, bool)>,
    known: &[Known<'w>],
    roles: &HashSet<String>,
) -> Result<Known<'w>, Box<Class<'w>>> {
    let names = class.names();
    let elsewhere = candidates.iter().position(|(name, ..)| {
        let identity = Identity::Own(name.clone());
        let first = first_of(&class, &identity);
        let as_known = |known: &&Known<'w>| known.identity == identity;
        known.iter().filter(as_known).any(|known| {
            let likeness = Likeness::of(&class, &first, known, hash(name));
            likeness.agreement.agree == likeness.agreement.all
                && likeness.is_one((&class.role, &names), known)
        })
    });
    let of_others = |name: &str| {
        let name = snake(name);
        name.rsplit_once('_').is_some_and(|(base, _)| roles.contains(&singular(base)))
    };
    let own = || candidates.iter().position(|(name, _, unlike)| *unlike && !of_others(name));
    let Some(place) = elsewhere.or_else(own) else { return Err(Box::new(class)) };
    let (name, trial, _) = candidates.swap_remove(place);
    Ok(Known::new(class, Identity::Own(name), trial))
}

/// Which classes are of one table, and which tables of a schema hold the same things.
fn joined(known: &[Known<'_>]) -> (Vec<Vec<usize>>, Alike) {
    let mut alike = Alike::default();
    let mut tables: Vec<Option<TableNo>> =
        (0..known.len()).map(|place| table_of(known, place, &mut alike)).collect();
    let mut unions = Unions((0..known.len()).collect());
    let pairs = || (0..known.len()).flat_map(|b| (0..b).map(move |a| (a, b)));
    for (a, b) in pairs().filter(|(a, b)| tables[*a].is_some() && tables[*a] == tables[*b]) {
        unions.join(a, b);
    }
    for (a, b) in pairs() {
        let (one, other) = (unions.root(a), unions.root(b));
        if one == other || known[a].declared.or(known[b].declared).is_some() {
            continue;
        }
        match (are_one(&known[a], &known[b]), tables[one], tables[other]) {
            (None, ..) => {}
            // What stays two in the schema is not made one by what is like both.
            (Some(shared), Some(one), Some(other)) => alike.add(one, other, shared),
            (Some(_), table, its) => {
                unions.join(one, other);
                tables[one.min(other)] = table.or(its);
            }
        }
    }
    (unions.sets(), alike)
}

/// The table of a schema that a class is of: that of its rows, or of those that it is like. Where
/// these are of several tables, it belongs where most of its things are, and the tables are alike.
fn table_of(known: &[Known<'_>], place: usize, alike: &mut Alike) -> Option<TableNo> {
    let one = &known[place];
    let others = known.iter().filter_map(|other| Some((other.declared?, other)));
    if let Some(own) = one.declared {
        for (table, other) in others.take_while(|(_, other)| !std::ptr::eq(one, *other)) {
            if table != own {
                alike.add(own, table, shared(one, other));
            }
        }
        return Some(own);
    }
    let mut most: BTreeMap<TableNo, usize> = BTreeMap::new();
    for (table, other) in others {
        if let Some(shared) = are_one(one, other) {
            let known = most.entry(table).or_default();
            *known = shared.max(*known);
        }
    }
    let (best, _) = most.iter().max_by_key(|(_, shared)| **shared)?;
    most.iter().filter(|(table, _)| *table != best).for_each(|(table, shared)| {
        alike.add(*best, *table, *shared);
    });
    Some(*best)
}

/// How many things two classes of different tables both hold, going by what lasts.
fn shared(one: &Known<'_>, other: &Known<'_>) -> usize {
    let id = one.identity.cell().filter(|_| one.identity == other.identity);
    let Some(id) = id else { return 0 };
    let Likeness { shared, agreement } = Likeness::of(&one.class, &one.first, other, id);
    if agreement.are_others() == Some(false) { shared } else { 0 }
}

/// Tables of a schema that hold the same things, and how many.
#[derive(Default)]
pub(super) struct Alike(Vec<(TableNo, TableNo, usize)>);

impl Alike {
    pub(super) fn iter(&self) -> impl Iterator<Item = (TableNo, TableNo, usize)> {
        self.0.iter().copied()
    }

    fn add(&mut self, one: TableNo, other: TableNo, shared: usize) {
        let (one, other) = (one.min(other), one.max(other));
        match self.0.iter_mut().find(|(a, b, _)| (*a, *b) == (one, other)) {
            Some((.., most)) => *most = shared.max(*most),
            None if shared > 0 => self.0.push((one, other, shared)),
            None => {}
        }
    }
}

/// Whether two classes are of one table, and how many things both hold.
fn are_one(a: &Known<'_>, b: &Known<'_>) -> Option<usize> {
    if a.identity != b.identity || !a.identity.is_own() {
        return None;
    }
    let id = a.identity.cell().unwrap_or(0);
    let likeness = Likeness::of(&a.class, &a.first, b, id);
    if let (Some(one), Some(other)) = (a.class.type_name(), b.class.type_name()) {
        return (one == other).then_some(likeness.shared);
    }
    let are_others = a.class.is.zip(b.class.is).is_some_and(|(one, other)| one != other);
    let is_one = !are_others && likeness.is_one((&a.class.role, &a.names), b);
    is_one.then_some(likeness.shared)
}

/// How alike the entities of one id are in two classes.
#[derive(Default)]
struct Likeness {
    shared: usize,
    agreement: Agreement,
}

impl Likeness {
    fn of(class: &Class<'_>, first: &FxHashMap<u64, usize>, other: &Known<'_>, id: u64) -> Self {
        let mut likeness = Self::default();
        // The fewer are looked for among the more.
        let (few, many) = if first.len() < other.first.len() {
            ((first, class), (&other.first, &other.class))
        } else {
            ((&other.first, &other.class), (first, class))
        };
        for (id_here, place) in few.0 {
            if let Some(there) = many.0.get(id_here) {
                let (one, two) = (few.1.rows[*place], many.1.rows[*there]);
                likeness.shared += 1;
                likeness.agreement += class.agreement(one, two, id);
            }
        }
        likeness
    }

    fn is_one(&self, (role, names): (&str, &FxHashSet<u64>), other: &Known<'_>) -> bool {
        let common = names.intersection(&other.names).count();
        let fewer = names.len().min(other.names.len());
        let same_role = role == other.class.role && names_a_thing(role) && !is_position(role);
        let Agreement { all, agree, texts, lasting, lasting_agree } = self.agreement;
        // States change; what lasts decides, if there is something.
        let agrees = match lasting {
            0 => all > 0 && agree * 4 >= all * 3,
            _ => lasting_agree * 4 >= lasting * 3,
        };
        match (same_role, self.shared) {
            (true, _) => lasting_agree * 2 >= lasting && (lasting > 0 || agree * 2 >= all),
            // Nothing is shared: the same members, and not just an id and a name.
            (false, 0) => common >= 3 && *names == other.names,
            // Two names that are the same of each are no chance.
            (false, shared) if lasting_agree >= shared * 2 => true,
            (false, shared) => agrees && common * 2 >= fewer && (texts > 0 || shared > 5),
        }
    }
}

fn roles(kinds: &Kinds<'_>, objects: &[ObjectsNo]) -> Vec<String> {
    let mut roles: Vec<String> = Vec::new();
    for number in objects {
        let role = kinds.role(*number);
        let role = singular(role.rsplit('.').next().unwrap_or(&role));
        if names_a_thing(&role) && !roles.contains(&role) {
            roles.push(role);
        }
    }
    roles
}

/// A name for the table of some objects: how they are called where many of them stand.
fn name(
    kinds: &Kinds<'_>,
    objects: &[ObjectsNo],
    type_name: Option<&str>,
    hints: &[String],
    taken: &mut Taken,
) -> String {
    if let Some(type_name) = type_name {
        // What stands in front of a point is where the type belongs.
        let last = type_name.rsplit('.').next().unwrap_or(type_name);
        return taken.take(&usable(&singular(last)));
    }
    let scored = objects.iter().map(|number| {
        let name = kinds.role(*number);
        let place = kinds.world.place(*number);
        let is_weak = is_position(&name) || !names_a_thing(&name);
        let score = match place {
            _ if is_weak => 0,
            // What a URL calls a single one is its name; then what it calls many of them.
            place if place.single => 4,
            place if place.parent.is_none() => 3,
            place if place.many => 2,
            _ => 1,
        };
        (score, kinds.world.objects(*number).seen, *number, name)
    });
    let hinted = hints.iter().map(|name| (2, 0, objects[0], name.clone()));
    let scored = scored.chain(hinted);
    let best =
        scored.reduce(|best, next| if (next.0, next.1) > (best.0, best.1) { next } else { best });
    let Some((_, _, number, name)) = best else { return taken.take("entity") };
    let mut name = singular(&name);
    if is_reserved(&name) {
        let around = kinds.world.place(number).parent.map(|parent| singular(&kinds.role(parent)));
        name = match around.filter(|around| is_position(&name) && !around.is_empty()) {
            Some(around) => format!("{around}_{name}"),
            None => name,
        };
    }
    taken.take(&usable(&name))
}

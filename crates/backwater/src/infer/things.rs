//! Which objects are things of their own: what tells them apart, and which of them, met in
//! different places, are of one table.

use std::collections::{HashMap, HashSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::evidence::{Cell, ObjectsNo, Seen, ShapeNo, View, World, hash};
use super::words::{Taken, is_position, is_reserved, names_a_thing, singular, snake, usable};

/// What tells the rows of a table apart.
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

/// A table that is proposed.
pub(super) struct Thing {
    pub(super) name: String,
    pub(super) objects: Vec<ObjectsNo>,
    pub(super) identity: Identity,
    /// The hashes of its ids.
    pub(super) ids: FxHashSet<u64>,
    /// Names under which it was met, in the singular.
    pub(super) roles: Vec<String>,
    /// How GraphQL and JSON:API call it.
    pub(super) told: Option<String>,
    /// What is to be said of the id.
    pub(super) note: String,
}

/// What is proposed, and which objects belong to it.
pub(super) struct Things {
    pub(super) list: Vec<Thing>,
    pub(super) of: Vec<Option<usize>>,
    /// Objects whose members go by ids.
    pub(super) maps: HashSet<ObjectsNo>,
}

impl Things {
    /// The table of some objects, if all are of one.
    pub(super) fn only(&self, objects: &[ObjectsNo]) -> Option<usize> {
        let first = self.of[objects.first()?.0 as usize]?;
        objects.iter().all(|objects| self.of[objects.0 as usize] == Some(first)).then_some(first)
    }

    pub(super) fn any(&self, objects: &[ObjectsNo]) -> bool {
        objects.iter().any(|objects| self.of[objects.0 as usize].is_some())
    }
}

/// Members of which one is likely to tell objects apart, the likeliest first.
fn rank(name: &str, role: &str) -> Option<usize> {
    let name = snake(name);
    let own = [format!("{role}_id"), format!("{role}id")].contains(&name);
    match &*name {
        "id" => Some(if name == "id" { 0 } else { 1 }),
        "_id" => Some(1),
        _ if own => Some(2),
        "uuid" | "guid" | "uid" => Some(3),
        "code" | "key" | "slug" | "iata" | "sku" | "isbn" => Some(SURE + 1),
        "number" | "no" | "nr" | "ref" | "reference" | "handle" | "name" | "username" | "login"
        | "email" | "title" => Some(SURE + 2),
        "position" | "index" | "line" | "row" | "seq" | "step" | "leg" | "day" | "date"
        | "lang" | "language" | "locale" | "field" => Some(AMONG),
        _ if name == role => Some(AMONG),
        _ => None,
    }
}

/// The last rank of names that are hardly anything else than an id.
const SURE: usize = 4;
/// The rank of names that tell a row from others of the same parent at best.
const AMONG: usize = 9;

/// How well a member tells objects apart.
#[derive(Default)]
struct Trial {
    ids: FxHashSet<u64>,
    /// Objects of one id in one response, and how many of them are different things.
    pairs: usize,
    against: usize,
    /// The same for responses to requests with other variables.
    pairs_over: usize,
    against_over: usize,
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

    /// Whether objects of one id are different things too often.
    fn speaks_against(&self) -> bool {
        self.against * 10 > self.pairs
    }

    fn speaks_against_over(&self) -> bool {
        self.against_over * 2 > self.pairs_over
    }
}

/// An object's scalar members by the hashes of their names.
struct Row {
    document: u32,
    array: u32,
    cells: Vec<(u64, Cell)>,
}

impl Row {
    fn cell(&self, name: u64) -> Option<Cell> {
        self.cells.iter().find(|(other, _)| *other == name).map(|(_, cell)| *cell)
    }

    /// How many of the members that both have agree, and how many there are; texts apart.
    fn agreement(&self, other: &Row, id: u64) -> (usize, usize, usize) {
        let (mut agree, mut texts, mut all) = (0, 0, 0);
        for (name, cell) in self.cells.iter().filter(|(name, _)| *name != id) {
            if let Some(other) = other.cell(*name) {
                all += 1;
                agree += usize::from(other == *cell);
                texts += usize::from(other == *cell && cell.is_text());
            }
        }
        (agree, texts, all)
    }

    fn is_against(&self, other: &Row, id: u64) -> bool {
        let (agree, _, all) = self.agreement(other, id);
        agree * 2 < all
    }
}

/// Objects that are of one kind by where they stand or what they tell.
struct Class<'w> {
    world: &'w World,
    objects: Vec<ObjectsNo>,
    role: String,
    rows: Vec<Row>,
}

impl<'w> Class<'w> {
    fn new(world: &'w World, objects: Vec<ObjectsNo>, role: String) -> Self {
        let mut rows = Vec::new();
        for number in &objects {
            let these = world.objects(*number);
            let names: Vec<u64> = these.members.iter().map(|member| hash(&member.name)).collect();
            rows.extend(these.rows.iter().map(|Seen { document, array, cells }| Row {
                document: *document,
                array: *array,
                cells:
                    cells.iter().map(|(member, cell)| (names[*member as usize], *cell)).collect(),
            }));
        }
        Self { world, objects, role, rows }
    }

    fn seen(&self) -> usize {
        self.objects.iter().map(|objects| self.world.objects(*objects).seen).sum()
    }

    fn told(&self) -> Option<&'w str> {
        let typed = |objects: &&ObjectsNo| is_surely_typed(self.world, **objects);
        let first = self.objects.iter().find(typed)?;
        self.world.objects(*first).told.as_deref()
    }

    /// Members that could be an id, the likeliest first.
    fn candidates(&self) -> Vec<(usize, String)> {
        let seen = self.seen();
        let members = View::members(self.world, &self.objects);
        let fitting = members.into_iter().filter_map(|member| {
            let counts = member.view.counts();
            let is_id = counts.seen == seen && member.present == seen && counts.ids() == seen;
            let rank = rank(member.name, &self.role)?;
            is_id.then(|| (rank, member.name.to_owned()))
        });
        let mut candidates: Vec<_> = fitting.collect();
        candidates.sort_by_key(|(rank, _)| *rank);
        candidates
    }

    /// The names of the members.
    fn names(&self) -> FxHashSet<u64> {
        let members = self.objects.iter().flat_map(|objects| &self.world.objects(*objects).members);
        members.map(|member| hash(&member.name)).collect()
    }

    /// Whether all of them stand in arrays inside of one kind of objects.
    fn parents(&self) -> Option<Vec<ObjectsNo>> {
        let parent = |objects: &ObjectsNo| {
            let place = self.world.place(*objects);
            place.parent.filter(|_| place.many)
        };
        self.objects.iter().map(parent).collect()
    }
}

/// Whether the type is told in a way that says nothing else.
pub(super) fn is_surely_typed(world: &World, objects: ObjectsNo) -> bool {
    let objects = world.objects(objects);
    objects.told.is_some()
        && (objects.resource || objects.members.iter().any(|member| &*member.name == "__typename"))
}

/// Sets of numbers that grow together.
struct Unions(Vec<usize>);

impl Unions {
    fn root(&self, mut of: usize) -> usize {
        while self.0[of] != of {
            of = self.0[of];
        }
        of
    }

    /// The lower number stays the root.
    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.root(a), self.root(b));
        self.0[a.max(b)] = a.min(b);
    }

    fn sets(&self) -> Vec<Vec<usize>> {
        let mut sets: Vec<Vec<usize>> = vec![Vec::new(); self.0.len()];
        (0..self.0.len()).for_each(|number| sets[self.root(number)].push(number));
        sets.retain(|set| !set.is_empty());
        sets
    }
}

/// A class with what tells its objects apart.
struct Known<'w> {
    class: Class<'w>,
    identity: Identity,
    trial: Trial,
    /// Whether that is an id by itself; else it is one only as in another class.
    sure: bool,
}

/// What requests call values, with the values' hashes: names for the tables of which they are ids.
pub(super) type Called = [(String, Vec<u64>)];

fn hints(called: &Called, ids: &FxHashSet<u64>) -> Vec<String> {
    let fits = |(_, values): &&(String, Vec<u64>)| values.iter().all(|value| ids.contains(value));
    called.iter().filter(fits).map(|(name, _)| name.clone()).collect()
}

/// Finds the things in what was seen.
pub(super) fn things(world: &World, called: &Called) -> Things {
    let maps: HashSet<ObjectsNo> =
        numbers(world).filter(|objects| is_map(world, *objects)).collect();
    let classes = classes(world, &maps);
    let (mut known, mut rest) = (Vec::new(), Vec::new());
    for class in classes {
        match own(&class) {
            Some((identity, trial, sure)) => known.push(Known { class, identity, trial, sure }),
            None => rest.push(class),
        }
    }
    let joined = joined(&known);
    let mut of: Vec<Option<usize>> = vec![None; world.objects.len()];
    let (mut list, mut taken) = (Vec::new(), Taken::default());
    let mut known: Vec<Option<Known<'_>>> = known.into_iter().map(Some).collect();
    for set in joined {
        let members: Vec<Known<'_>> = set.iter().filter_map(|it| known[*it].take()).collect();
        if members.iter().all(|known| !known.sure) {
            rest.extend(members.into_iter().map(|known| known.class));
            continue;
        }
        let number = list.len();
        let objects: Vec<ObjectsNo> =
            members.iter().flat_map(|known| known.class.objects.iter().copied()).collect();
        objects.iter().for_each(|objects| of[objects.0 as usize] = Some(number));
        let told = members.iter().find_map(|known| known.class.told()).map(str::to_owned);
        let ids: FxHashSet<u64> =
            members.iter().flat_map(|known| known.trial.ids.iter().copied()).collect();
        let over: usize = members.iter().map(|known| known.trial.against_over).sum();
        let identity = members[0].identity.clone();
        let note = match identity {
            Identity::InRequest(_) => {
                format!("the same id in other answers is another thing, {over} times")
            }
            _ if ids.len() < 2 => "thin, but what it is called says it".to_owned(),
            _ => format!("{} different", ids.len()),
        };
        list.push(Thing {
            name: name(world, &maps, &objects, told.as_deref(), &hints(called, &ids), &mut taken),
            identity,
            roles: roles(world, &maps, &objects),
            ids,
            told,
            note,
            objects,
        });
    }
    rest.sort_by_key(|class| class.objects[0]);
    for class in rest {
        let found = in_parent(&class, &of, &list)
            .or_else(|| in_map(&class, &maps, &of))
            .or_else(|| in_request(&class, &of));
        let Some((identity, ids, note)) = found else { continue };
        let number = list.len();
        class.objects.iter().for_each(|objects| of[objects.0 as usize] = Some(number));
        list.push(Thing {
            name: name(world, &maps, &class.objects, None, &hints(called, &ids), &mut taken),
            roles: roles(world, &maps, &class.objects),
            objects: class.objects,
            identity,
            ids,
            told: None,
            note,
        });
    }
    Things { list, of, maps }
}

fn numbers(world: &World) -> impl Iterator<Item = ObjectsNo> + use<> {
    (0..world.objects.len() as u32).map(ObjectsNo)
}

/// Whether the members of objects are like each other, and go by ids.
fn is_map(world: &World, number: ObjectsNo) -> bool {
    let objects = world.objects(number);
    if objects.resource || world.place(number).plain {
        return false;
    }
    if objects.keyed.is_some() && objects.members.is_empty() {
        return true;
    }
    let views = objects.members.iter().map(|member| View::new(world, [member.shape]));
    let views: Vec<View<'_>> = views.collect();
    if views.len() < 3 || views.iter().any(|view| view.counts().objects != view.counts().seen) {
        return false;
    }
    let names = |view: &View<'_>| -> HashSet<&str> {
        let inside = view.objects().into_iter();
        let members = inside.flat_map(|inside| &world.objects(inside).members);
        members.map(|member| &*member.name).collect()
    };
    let all: Vec<HashSet<&str>> = views.iter().map(names).collect();
    let common = all[1..].iter().fold(all[0].clone(), |common, names| &common & names);
    let either: HashSet<&str> = all.iter().flatten().copied().collect();
    if common.len() < 2 || either.len() > common.len() * 2 {
        return false;
    }
    // An id of their own has to be the name that they go by.
    let sure = |name: &&&str| rank(name, "").is_some_and(|rank| rank <= SURE);
    let Some(id) = either.iter().find(sure) else { return true };
    objects.members.iter().zip(&views).all(|(member, view)| {
        let name = Cell::of_text(&member.name).id();
        view.objects().into_iter().all(|inside| {
            let inside = world.objects(inside);
            let place = inside.members.iter().position(|member| *member.name == **id);
            inside.rows.iter().all(|row| {
                row.cells
                    .iter()
                    .any(|(member, cell)| Some(*member as usize) == place && cell.id() == name)
            })
        })
    })
}

/// The places of a map's values.
pub(super) fn values_of(world: &World, map: ObjectsNo) -> Vec<ShapeNo> {
    let objects = world.objects(map);
    let members = objects.members.iter().map(|member| member.shape);
    members.chain(objects.keyed.as_ref().map(|keyed| keyed.shape)).collect()
}

/// Puts together what stands in one place, and what tells the same type.
fn classes<'w>(world: &'w World, maps: &HashSet<ObjectsNo>) -> Vec<Class<'w>> {
    let mut unions = Unions((0..world.objects.len()).collect());
    let roles: HashSet<String> =
        world.shapes.iter().map(|shape| singular(&shape.place.role)).collect();
    let mut typed: HashMap<&str, usize> = HashMap::new();
    for number in numbers(world).filter(|number| is_surely_typed(world, *number)) {
        let told = world.objects(number).told.as_deref().unwrap_or_default();
        let first = *typed.entry(told).or_insert(number.0 as usize);
        unions.join(first, number.0 as usize);
    }
    for shape in &world.shapes {
        let apart = shape.objects.iter().all(|(told, number)| {
            let names_a_role = told.as_deref().is_some_and(|told| roles.contains(&singular(told)));
            is_surely_typed(world, *number) || names_a_role
        });
        for pair in shape.objects.windows(2).filter(|_| !apart) {
            unions.join(pair[0].1.0 as usize, pair[1].1.0 as usize);
        }
    }
    for map in maps {
        let inside = View::new(world, values_of(world, *map)).objects();
        inside.windows(2).for_each(|pair| unions.join(pair[0].0 as usize, pair[1].0 as usize));
    }
    let sets = unions.sets().into_iter().map(|set| {
        let objects: Vec<ObjectsNo> =
            set.into_iter().map(|number| ObjectsNo(number as u32)).collect();
        let role = singular(&role(world, maps, objects[0]));
        Class::new(world, objects, role)
    });
    sets.filter(|class| {
        class.objects.iter().all(|objects| !maps.contains(objects) && !world.place(*objects).plain)
    })
    .collect()
}

/// The name that objects go by: their member's, or if that says nothing, what is around it.
fn role(world: &World, maps: &HashSet<ObjectsNo>, number: ObjectsNo) -> String {
    let objects = world.objects(number);
    if let Some(told) = objects.told.as_deref().filter(|_| is_surely_typed(world, number)) {
        return told.to_owned();
    }
    let mut place = world.place(number);
    while let Some(parent) = place.parent {
        if names_a_thing(&place.role) && !maps.contains(&parent) {
            break;
        }
        place = world.place(parent);
    }
    place.role.to_string()
}

/// What tells objects apart wherever they are, and whether that is sure.
fn own(class: &Class<'_>) -> Option<(Identity, Trial, bool)> {
    let seen = class.seen();
    let mut unsure = None;
    for (rank, name) in class.candidates() {
        let Some(trial) = Trial::of(class, &name) else { continue };
        let (ids, repeats) = (trial.ids.len(), seen - trial.rows.min(seen));
        if trial.speaks_against() {
            continue;
        }
        if trial.pairs_over > 0 && trial.speaks_against_over() {
            return Some((Identity::InRequest(Some(name)), trial, true));
        }
        let is_sure = match rank {
            ..=SURE => true,
            rank if rank == SURE + 1 => ids > 1,
            // Only objects that come again and agree show that such a member is an id.
            rank if rank < AMONG => ids > 1 && trial.against == 0 && repeats * 2 >= ids,
            _ => false,
        };
        if is_sure {
            return Some((Identity::Own(name), trial, true));
        }
        if rank < AMONG && unsure.is_none() {
            unsure = Some((Identity::Own(name), trial, false));
        }
    }
    unsure
}

/// What tells objects apart among those of one row around them.
fn in_parent(
    class: &Class<'_>,
    of: &[Option<usize>],
    list: &[Thing],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let parents = class.parents()?;
    let parent = of[parents.first()?.0 as usize]?;
    let same = parents.iter().all(|objects| of[objects.0 as usize] == Some(parent));
    if !same || !matches!(list[parent].identity, Identity::Own(_)) {
        return None;
    }
    class.candidates().into_iter().find_map(|(_, name)| {
        let trial = Trial::of(class, &name)?;
        let shows = trial.arrays > 1 && trial.twice == 0;
        let told = format!("no two alike in {} arrays of several", trial.arrays);
        shows.then_some((Identity::InParent(name, parent), trial.ids, told))
    })
}

/// The name by which objects are members of a whole response, or of what is no row itself.
fn in_map(
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
    Some((Identity::Key, ids, "the names by which they are members".to_owned()))
}

/// The variables of the request, for a single object that is the whole answer.
fn in_request(
    class: &Class<'_>,
    of: &[Option<usize>],
) -> Option<(Identity, FxHashSet<u64>, String)> {
    let world = class.world;
    let alone = |number: &ObjectsNo| {
        let place = world.place(*number);
        place.parent.is_none() && !place.many && !holds_thing(world, of, *number)
    };
    let varies = |row: &Row| world.documents[row.document as usize].variables != 0;
    let is_one = class.objects.iter().all(alone) && class.rows.iter().all(varies);
    let answers: FxHashSet<u64> =
        class.rows.iter().map(|row| world.documents[row.document as usize].variables).collect();
    let note = format!("{} different URLs", answers.len());
    (is_one && !class.rows.is_empty()).then_some((Identity::InRequest(None), answers, note))
}

/// Whether a thing stands somewhere inside of objects.
fn holds_thing(world: &World, of: &[Option<usize>], number: ObjectsNo) -> bool {
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

/// Which classes are of one table.
fn joined(known: &[Known<'_>]) -> Vec<Vec<usize>> {
    let mut unions = Unions((0..known.len()).collect());
    let names: Vec<FxHashSet<u64>> = known.iter().map(|known| known.class.names()).collect();
    let first: Vec<FxHashMap<u64, &Row>> = known
        .iter()
        .map(|known| {
            let id = known.identity.member().map(hash);
            let mut first = FxHashMap::default();
            for row in &known.class.rows {
                let cell = id.and_then(|id| row.cell(id));
                cell.map(|cell| first.entry(cell.id()).or_insert(row));
            }
            first
        })
        .collect();
    for a in 0..known.len() {
        for b in a + 1..known.len() {
            let same_id = known[a].identity == known[b].identity;
            if same_id
                && matches!(known[a].identity, Identity::Own(_))
                && unions.root(a) != unions.root(b)
                && are_one(&known[a], &known[b], (&names[a], &names[b]), (&first[a], &first[b]))
            {
                unions.join(a, b);
            }
        }
    }
    unions.sets()
}

fn are_one(
    a: &Known<'_>,
    b: &Known<'_>,
    names: (&FxHashSet<u64>, &FxHashSet<u64>),
    first: (&FxHashMap<u64, &Row>, &FxHashMap<u64, &Row>),
) -> bool {
    if let (Some(one), Some(other)) = (a.class.told(), b.class.told()) {
        return one == other;
    }
    let id = a.identity.member().map_or(0, hash);
    let (small, large) =
        if first.0.len() < first.1.len() { (first.0, first.1) } else { (first.1, first.0) };
    let (mut shared, mut agree, mut texts, mut all) = (0, 0, 0, 0);
    for (key, row) in small {
        if let Some(other) = large.get(key) {
            let (a, t, n) = row.agreement(other, id);
            (shared, agree, texts, all) = (shared + 1, agree + a, texts + t, all + n);
        }
    }
    let common = names.0.intersection(names.1).count();
    let fewer = names.0.len().min(names.1.len());
    let same_role =
        a.class.role == b.class.role && names_a_thing(&a.class.role) && !is_position(&a.class.role);
    match (same_role, shared) {
        (true, _) => agree * 2 >= all,
        // Nothing is shared: the same members, and not just an id and a name.
        (false, 0) => common >= 3 && names.0 == names.1,
        (false, _) => {
            all > 0 && agree * 4 >= all * 3 && common * 2 >= fewer && (texts > 0 || shared > 5)
        }
    }
}

fn roles(world: &World, maps: &HashSet<ObjectsNo>, objects: &[ObjectsNo]) -> Vec<String> {
    let mut roles: Vec<String> = Vec::new();
    for number in objects {
        let role = singular(&role(world, maps, *number));
        if names_a_thing(&role) && !roles.contains(&role) {
            roles.push(role);
        }
    }
    roles
}

/// A name for the table of some objects: how they are called where many of them stand.
fn name(
    world: &World,
    maps: &HashSet<ObjectsNo>,
    objects: &[ObjectsNo],
    told: Option<&str>,
    hints: &[String],
    taken: &mut Taken,
) -> String {
    if let Some(told) = told {
        return taken.take(&usable(&singular(told)));
    }
    let scored = objects.iter().map(|number| {
        let name = role(world, maps, *number);
        let place = world.place(*number);
        let is_weak = is_position(&name) || !names_a_thing(&name);
        let is_many = place.many || place.parent.is_none();
        let score = if is_weak { 0 } else { 1 + 2 * usize::from(is_many) };
        (score, world.objects(*number).seen, *number, name)
    });
    let hinted = hints.iter().map(|name| (2, 0, objects[0], name.clone()));
    let scored = scored.chain(hinted);
    let best =
        scored.reduce(|best, next| if (next.0, next.1) > (best.0, best.1) { next } else { best });
    let Some((_, _, number, name)) = best else { return taken.take("thing") };
    let mut name = singular(&name);
    if is_reserved(&name) {
        let around = world.place(number).parent.map(|parent| singular(&role(world, maps, parent)));
        name = match around.filter(|around| is_position(&name) && !around.is_empty()) {
            Some(around) => format!("{around}_{name}"),
            None => name,
        };
    }
    taken.take(&usable(&name))
}

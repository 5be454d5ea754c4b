//! Which objects are of one kind by where they stand, or by the type that they name.

use std::collections::{HashMap, HashSet};
use std::ops::AddAssign;

use rustc_hash::FxHashSet;

use super::evidence::{
    Cell, Cells, Members, Objects, ObjectsNo, Seen, ShapeNo, View, World, hash, way,
};
use super::words::{
    begins, changes, is_called_by, is_content, is_surely_an_id, names_a_thing, singular,
};
use crate::ingest::TYPE_NAME;

/// The members by which rows are written that are `{ model, pk, fields }`.
pub(super) const MODEL: &str = "model";
pub(super) const KEY_OF_MODEL: &str = "pk";

/// So many different ids show that the objects of a type are rows of a table.
const FEWEST_OF_KIND: usize = 3;

/// How far two objects agree.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Agreement {
    /// Members that both have.
    pub(super) all: usize,
    pub(super) agree: usize,
    /// Texts that agree.
    pub(super) texts: usize,
    /// The same for members that stay the same while an entity lives.
    pub(super) lasting: usize,
    pub(super) lasting_agree: usize,
}

impl Agreement {
    /// Whether the objects are different entities by what lasts; `None` if nothing does.
    pub(super) fn are_others(&self) -> Option<bool> {
        (self.lasting > 0).then(|| self.lasting_agree * 2 < self.lasting)
    }

    /// Whether most of what they have in common differs.
    pub(super) fn mostly_differ(&self) -> bool {
        self.agree * 2 < self.all
    }
}

impl AddAssign for Agreement {
    fn add_assign(&mut self, other: Self) {
        self.all += other.all;
        self.agree += other.agree;
        self.texts += other.texts;
        self.lasting += other.lasting;
        self.lasting_agree += other.lasting_agree;
    }
}

/// The members that stay the same while an entity lives, as far as their names and values show it:
/// names, addresses and links, not states, counts and times.
pub(super) struct Lasting(FxHashSet<u64>);

impl Lasting {
    fn of(world: &World, objects: &[ObjectsNo]) -> Self {
        let mut lasting = FxHashSet::default();
        let mut add = |outer: Option<u64>, member: &Members<'_>| {
            let counts = member.view.counts();
            let there = counts.seen - counts.nulls;
            let lasts = match there {
                0 => false,
                _ if counts.times == there => begins(member.name),
                _ if counts.texts == there => !changes(member.name),
                _ => counts.ints == there && is_called_by(member.name),
            };
            if lasts {
                let inner = hash(member.name);
                lasting.insert(outer.map_or(inner, |outer| way(outer, inner)));
            }
        };
        for member in View::members(world, objects) {
            add(None, &member);
            // Which row a link points at may change.
            let inside = View::members(world, &member.view.objects());
            let inside = inside.iter().filter(|inner| !is_surely_an_id(inner.name));
            inside.for_each(|inner| add(Some(hash(member.name)), inner));
        }
        Self(lasting)
    }
}

/// Objects that are of one kind by where they stand or by the type that they name.
pub(super) struct Class<'w> {
    pub(super) world: &'w World,
    pub(super) objects: Vec<ObjectsNo>,
    pub(super) role: String,
    /// The type that their role is.
    pub(super) is: Option<&'w str>,
    /// What was seen of them, in the order of the documents.
    pub(super) rows: Vec<&'w Seen>,
    pub(super) lasting: Lasting,
}

impl<'w> Class<'w> {
    fn new(kinds: &Kinds<'w>, objects: Vec<ObjectsNo>) -> Self {
        let world = kinds.world;
        let role = singular(&kinds.role(objects[0]));
        let typed = kinds.typed.contains(&objects[0]);
        let is = world.objects(objects[0]).type_name.as_deref().filter(|_| typed);
        let mut rows = Vec::new();
        for number in &objects {
            rows.extend(&world.objects(*number).rows);
        }
        rows.sort_by_key(|seen| seen.document);
        let lasting = Lasting::of(world, &objects);
        Self { world, objects, role, is, rows, lasting }
    }

    pub(super) fn seen(&self) -> usize {
        self.objects.iter().map(|objects| self.world.objects(*objects).seen).sum()
    }

    pub(super) fn type_name(&self) -> Option<&'w str> {
        let typed = |objects: &&ObjectsNo| is_surely_typed(self.world, **objects);
        let first = self.objects.iter().find(typed)?;
        self.world.objects(*first).type_name.as_deref()
    }

    fn cells(&self, row: &Seen) -> Cells<'w> {
        self.world.cells(row.cells)
    }

    pub(super) fn cell(&self, row: &Seen, name: u64) -> Option<Cell> {
        self.cells(row).get(name)
    }

    /// What is the id of a row, if it has one.
    pub(super) fn id(&self, row: &Seen, name: u64) -> Option<u64> {
        self.cell(row, name).filter(|cell| !cell.is_null()).map(Cell::id)
    }

    /// How far the members agree that both rows have, the id apart.
    pub(super) fn agreement(&self, row: &Seen, other: &Seen, id: u64) -> Agreement {
        let (mut agreement, others) = (Agreement::default(), self.cells(other));
        for (name, cell) in self.cells(row).iter().filter(|(name, _)| *name != id) {
            let Some(other) = others.get(name) else { continue };
            let (lasts, agree) = (self.lasting.0.contains(&name), other == cell);
            agreement.all += 1;
            agreement.agree += usize::from(agree);
            agreement.texts += usize::from(agree && cell.is_text());
            agreement.lasting += usize::from(lasts);
            agreement.lasting_agree += usize::from(lasts && agree);
        }
        agreement
    }

    /// The names of the members.
    pub(super) fn names(&self) -> FxHashSet<u64> {
        let members = self.objects.iter().flat_map(|objects| &self.world.objects(*objects).members);
        members.map(|member| hash(&member.name)).collect()
    }

    /// Whether they stand in arrays, and in nothing that is a row.
    pub(super) fn are_listed(&self, of: &[Option<usize>]) -> bool {
        self.objects.iter().all(|objects| {
            let place = self.world.place(*objects);
            place.many && place.parent.is_none_or(|parent| of[parent.0 as usize].is_none())
        })
    }

    /// Whether each is a whole response, of which what is asked for is not known: such as files with
    /// one thing each.
    pub(super) fn are_responses_with_names(&self) -> bool {
        let documents: FxHashSet<u32> = self.rows.iter().map(|row| row.document).collect();
        let of_nothing = |number: &u32| self.world.documents[*number as usize].variables == 0;
        let is_whole = |objects: &ObjectsNo| {
            let place = self.world.place(*objects);
            place.parent.is_none() && !place.many && !place.single
        };
        documents.len() == self.rows.len()
            && documents.iter().all(of_nothing)
            && self.objects.iter().all(is_whole)
    }

    /// Whether all of them stand in arrays inside of one kind of objects.
    pub(super) fn parents(&self) -> Option<Vec<ObjectsNo>> {
        let parent = |objects: &ObjectsNo| {
            let place = self.world.place(*objects);
            place.parent.filter(|_| place.many)
        };
        self.objects.iter().map(parent).collect()
    }
}

/// Whether the type is given by a member that says nothing else.
pub(super) fn is_surely_typed(world: &World, objects: ObjectsNo) -> bool {
    let objects = world.objects(objects);
    objects.type_name.is_some() && (objects.resource || type_member(objects) != "type")
}

/// The member by which objects name their type.
pub(super) fn type_member(objects: &Objects) -> &'static str {
    let has = |name: &str| objects.members.iter().any(|member| &*member.name == name);
    match () {
        _ if has(TYPE_NAME) => TYPE_NAME,
        _ if has(MODEL) && has(KEY_OF_MODEL) => MODEL,
        _ => "type",
    }
}

/// Sets of numbers that grow together.
pub(super) struct Unions(pub(super) Vec<usize>);

impl Unions {
    pub(super) fn root(&self, mut of: usize) -> usize {
        while self.0[of] != of {
            of = self.0[of];
        }
        of
    }

    /// The lower number stays the root.
    pub(super) fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.root(a), self.root(b));
        self.0[a.max(b)] = a.min(b);
    }

    pub(super) fn sets(&self) -> Vec<Vec<usize>> {
        let mut sets: Vec<Vec<usize>> = vec![Vec::new(); self.0.len()];
        (0..self.0.len()).for_each(|number| sets[self.root(number)].push(number));
        sets.retain(|set| !set.is_empty());
        sets
    }
}

pub(super) fn numbers(world: &World) -> impl Iterator<Item = ObjectsNo> + use<> {
    (0..world.objects.len() as u32).map(ObjectsNo)
}

/// Whether the members of objects are like each other, and go by ids.
pub(super) fn is_map(world: &World, number: ObjectsNo) -> bool {
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
    let sure = |name: &&&str| is_surely_an_id(name);
    let Some(id) = either.iter().find(sure) else { return true };
    objects.members.iter().zip(&views).all(|(member, view)| {
        let name = Cell::of_text(&member.name).id();
        view.objects().into_iter().all(|inside| {
            let inside = world.objects(inside);
            let id = hash(id);
            inside
                .rows
                .iter()
                .all(|row| world.cells(row.cells).get(id).is_some_and(|cell| cell.id() == name))
        })
    })
}

/// Whether all members of a map go by whole numbers.
pub(super) fn go_by_digits(world: &World, map: ObjectsNo) -> bool {
    let map = world.objects(map);
    map.members.is_empty() && map.keyed.as_ref().is_some_and(|keyed| keyed.digits)
}

/// The places of a map's values.
pub(super) fn values_of(world: &World, map: ObjectsNo) -> Vec<ShapeNo> {
    let objects = world.objects(map);
    let members = objects.members.iter().map(|member| member.shape);
    members.chain(objects.keyed.as_ref().map(|keyed| keyed.shape)).collect()
}

/// Whether the type that objects name is that of a table: they are called so where they stand, or
/// objects elsewhere are, which have the members that these have. Where others at the same place
/// have just the same members, the objects elsewhere have to name the type too.
fn names_its_table(
    world: &World,
    number: ObjectsNo,
    beside: &[ObjectsNo],
    called: &HashMap<String, Vec<ObjectsNo>>,
) -> bool {
    let names = |number: ObjectsNo| -> HashSet<&str> {
        let members = world.objects(number).members.iter().map(|member| &*member.name);
        members.filter(|name| *name != "type").collect()
    };
    let objects = world.objects(number);
    let Some(type_name) = &objects.type_name else { return false };
    let own = names(number);
    let is_like_others = beside.iter().any(|other| *other != number && names(*other) == own);
    let mut elsewhere = called.get(&singular(type_name)).into_iter().flatten();
    elsewhere.any(|there| {
        let common = names(*there).intersection(&own).count();
        let says_so = world.objects(*there).type_name == objects.type_name;
        let is_here = world.objects(*there).shape == objects.shape;
        is_here || (common * 3 >= own.len() * 2 && (says_so || !is_like_others))
    })
}

/// Whether objects that stand in one place are of several kinds, as their types say: each has ids,
/// those of one kind come again in another, and their other members are not the same.
fn are_of_several_kinds(world: &World, all: &[ObjectsNo]) -> bool {
    let mut kinds: Vec<(FxHashSet<u64>, HashSet<&str>)> = Vec::new();
    for number in all {
        let objects = world.objects(*number);
        let is_id = |name: &&str| is_surely_an_id(name);
        let names = || objects.members.iter().map(|member| &*member.name);
        let Some(id) = names().find(is_id) else { return false };
        let key = hash(id);
        let ids = objects.rows.iter().map(|row| Some(world.cells(row.cells).get(key)?.id()));
        let Some(ids) = ids.collect::<Option<FxHashSet<u64>>>() else { return false };
        let is_named = objects.type_name.as_deref().is_some_and(names_a_thing);
        if !is_named || ids.len() < FEWEST_OF_KIND {
            return false;
        }
        kinds.push((ids, names().filter(|name| *name != id && *name != "type").collect()));
    }
    let pairs = || {
        let each = kinds.iter().enumerate();
        each.flat_map(|(place, one)| kinds[place + 1..].iter().map(move |other| (one, other)))
    };
    let differ = |((_, own), (_, others)): (&(_, HashSet<&str>), &(_, HashSet<&str>))| {
        own.intersection(others).count() * 2 <= own.len().min(others.len())
    };
    let share = |((ids, _), (others, _)): (&(FxHashSet<u64>, _), &(FxHashSet<u64>, _))| {
        !ids.is_disjoint(others)
    };
    kinds.len() > 1 && pairs().all(differ) && pairs().any(share)
}

/// Whether objects are what rows consist of, beside what is said of these.
fn is_content_of(world: &World, objects: ObjectsNo) -> bool {
    let place = world.place(objects);
    is_content(&place.role) && !place.many && place.parent.is_some()
}

/// What kinds of objects there are, beside those that are an entity each.
pub(super) struct Kinds<'w> {
    pub(super) world: &'w World,
    /// Objects whose members go by ids.
    pub(super) maps: HashSet<ObjectsNo>,
    /// Objects whose type says what they are.
    typed: HashSet<ObjectsNo>,
}

impl<'w> Kinds<'w> {
    pub(super) fn of(world: &'w World) -> Self {
        let maps = numbers(world).filter(|objects| is_map(world, *objects)).collect();
        let mut kinds = Self { world, maps, typed: HashSet::new() };
        let mut called: HashMap<String, Vec<ObjectsNo>> = HashMap::new();
        for number in numbers(world) {
            called.entry(singular(&kinds.role(number))).or_default().push(number);
        }
        for shape in &world.shapes {
            let all: Vec<ObjectsNo> = shape.objects.iter().map(|(_, number)| *number).collect();
            let apart = all.iter().all(|number| {
                is_surely_typed(world, *number) || names_its_table(world, *number, &all, &called)
            });
            let apart = apart || are_of_several_kinds(world, &all);
            kinds.typed.extend(all.into_iter().filter(|_| apart));
        }
        kinds
    }

    /// The name that objects go by: their type's, their member's, or if that says nothing, what is
    /// around it.
    pub(super) fn role(&self, number: ObjectsNo) -> String {
        let objects = self.world.objects(number);
        if let Some(type_name) =
            objects.type_name.as_deref().filter(|_| self.typed.contains(&number))
        {
            return type_name.to_owned();
        }
        let mut place = self.world.place(number);
        while let Some(parent) = place.parent {
            if names_a_thing(&place.role) && !self.maps.contains(&parent) {
                break;
            }
            place = self.world.place(parent);
        }
        place.role.to_string()
    }
}

/// Merges what stands in one place, and what names the same type.
pub(super) fn classes<'w>(kinds: &Kinds<'w>) -> Vec<Class<'w>> {
    let world = kinds.world;
    let mut unions = Unions((0..world.objects.len()).collect());
    let mut typed: HashMap<&str, usize> = HashMap::new();
    for number in numbers(world).filter(|number| is_surely_typed(world, *number)) {
        let type_name = world.objects(number).type_name.as_deref().unwrap_or_default();
        let first = *typed.entry(type_name).or_insert(number.0 as usize);
        unions.join(first, number.0 as usize);
    }
    for shape in &world.shapes {
        let apart = shape.objects.iter().all(|(_, number)| kinds.typed.contains(number));
        for pair in shape.objects.windows(2).filter(|_| !apart) {
            unions.join(pair[0].1.0 as usize, pair[1].1.0 as usize);
        }
    }
    for map in &kinds.maps {
        let inside = View::new(world, values_of(world, *map)).objects();
        inside.windows(2).for_each(|pair| unions.join(pair[0].0 as usize, pair[1].0 as usize));
    }
    let sets = unions.sets().into_iter().map(|set| {
        let objects: Vec<ObjectsNo> =
            set.into_iter().map(|number| ObjectsNo(number as u32)).collect();
        Class::new(kinds, objects)
    });
    sets.filter(|class| {
        class
            .objects
            .iter()
            .all(|objects| !kinds.maps.contains(objects) && !world.place(*objects).plain)
            && !class.objects.iter().all(|objects| is_content_of(world, *objects))
    })
    .collect()
}

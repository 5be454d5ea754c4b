//! Sorts of which there is one for things of all kinds. The standard library's sorts take some eight
//! thousand bytes of code for each kind of thing and each order that they are used with.

use std::cmp::Ordering;

use smallvec::SmallVec;

/// A thing's number, behind a key that mostly tells where it stands.
pub(crate) type Numbered = (u64, u32);

/// How the things with two numbers stand to each other, where their keys are equal.
pub(crate) type Order<'o> = dyn Fn(usize, usize) -> Ordering + 'o;

/// Puts a few things into an order; those that are equal in it stay as they stand.
pub(crate) fn few<T>(things: &mut Vec<T>, is_before: impl Fn(&T, &T) -> bool) {
    for thing in std::mem::take(things) {
        let place = things.partition_point(|other| !is_before(&thing, other));
        things.insert(place, thing);
    }
}

/// Puts a few things into their order, each once.
pub(crate) fn few_once<T: Ord>(things: &mut Vec<T>) {
    for thing in std::mem::take(things) {
        if let Err(place) = things.binary_search(&thing) {
            things.insert(place, thing);
        }
    }
}

/// Puts things of any kind into the order of a key; those of the same key stay as they stand.
pub(crate) fn by_key<T>(things: &mut [T], key: impl Fn(&T) -> u64) {
    if things.len() < 2 {
        return;
    }
    let mut numbered: SmallVec<[Numbered; 8]> = things.iter().map(key).zip(0..).collect();
    if numbered.is_sorted() {
        return;
    }
    numbers(&mut numbered, &|one, other| one.cmp(&other));
    for start in 0..numbered.len() {
        let mut place = start;
        loop {
            // Each thing moves once to where it belongs, along a circle of places.
            let from = std::mem::replace(&mut numbered[place].1, place as u32) as usize;
            if from == start || from == place {
                break;
            }
            things.swap(place, from);
            place = from;
        }
    }
}

/// Puts the numbers of many things into order.
pub(crate) fn numbers(things: &mut [Numbered], order: &Order<'_>) {
    things.sort_unstable_by(|a, b| compare(a, b, order));
}

/// Puts the first `room` of them in front, in any order.
pub(crate) fn first_numbers(things: &mut [Numbered], room: usize, order: &Order<'_>) {
    things.select_nth_unstable_by(room, |a, b| compare(a, b, order));
}

fn compare((a, one): &Numbered, (b, other): &Numbered, order: &Order<'_>) -> Ordering {
    a.cmp(b).then_with(|| order(*one as usize, *other as usize))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// As the standard library's sorts do.
        #[test]
        fn things_are_in_order(things in prop::collection::vec((0..6_u64, 0..40_u32), 0..60), room in 0..60_usize) {
            let (mut stable, mut keyed, mut once) = (things.clone(), things.clone(), things.clone());
            few(&mut stable, |a, b| a.0 < b.0);
            by_key(&mut keyed, |thing| thing.0);
            few_once(&mut once);
            let mut expected = things.clone();
            expected.sort_by_key(|thing| thing.0);
            prop_assert_eq!(&stable, &expected);
            prop_assert_eq!(keyed, expected);
            let mut expected = things.clone();
            expected.sort();
            expected.dedup();
            prop_assert_eq!(once, expected);

            let of = |number: usize| things[number].1;
            let numbered: Vec<Numbered> = things.iter().map(|thing| thing.0).zip(0..).collect();
            let order = |a: usize, b: usize| of(a).cmp(&of(b)).then(a.cmp(&b));
            let (mut all, mut first, mut expected) = (numbered.clone(), numbered.clone(), numbered);
            expected.sort_by_key(|(key, number)| (*key, of(*number as usize), *number));
            numbers(&mut all, &order);
            prop_assert_eq!(&all, &expected);
            if room < first.len() {
                first_numbers(&mut first, room, &order);
                first[..room].sort_by_key(|(key, number)| (*key, of(*number as usize), *number));
                prop_assert_eq!(&first[..room], &expected[..room]);
            }
        }
    }
}

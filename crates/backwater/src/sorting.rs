//! Sorts of which there is one for things of all kinds. The standard library's sorts take some eight
//! thousand bytes of code for each kind of thing and each order that they are used with.

use std::cmp::Ordering;

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

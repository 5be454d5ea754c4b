//! The first 64 bits of where a row stands in an order: enough for most comparisons, without a look
//! at the row.
//!
//! A row that stands before another one has a prefix that is smaller or the same.

use crate::query::expr::collation::Collation;
use crate::query::expr::scalar::Scalar;
use crate::query::operator::order::rank_tree::Prefix;
use crate::query::plan::OrderKey;

/// Whole numbers below this, and above its negative, leave room for a second value.
const SMALL: i64 = (1 << 29) - 1;
const SMALLER: i64 = 1 << 30;
const LOW: u64 = (1 << 62) - 1;

/// The prefix of a row with these sort keys; `tie` orders rows where these leave it open, and is
/// mostly not needed.
pub(crate) fn prefix<'t>(
    order: &[OrderKey],
    values: &[Scalar<'_>],
    tie: &dyn Fn() -> Option<Scalar<'t>>,
) -> Prefix {
    let mut keys = order.iter().map(Direction::of).zip(values);
    match keys.next() {
        Some((key, value)) => {
            let next = &mut || match keys.next() {
                Some((key, value)) => second(key, value),
                None => tie().map_or(0, |tie| second(Direction::TIE, &tie)),
            };
            prefix_of(key, value, next)
        }
        None => tie().map_or(0, |tie| prefix_of(Direction::TIE, &tie, &mut || 0)),
    }
}

/// The smallest prefix of all rows with this first sort key.
pub(crate) fn lowest_prefix(key: &OrderKey, value: &Scalar<'_>) -> Prefix {
    prefix_of(Direction::of(key), value, &mut || 0)
}

/// The prefix of a value; `next` gives 32 bits of the one behind it.
fn prefix_of(key: Direction, value: &Scalar<'_>, next: &mut dyn FnMut() -> u32) -> Prefix {
    // Numbers stand before texts, unless the order is turned around.
    let class = |is_text: bool| if is_text == key.descending { 1_u64 << 62 } else { 2 << 62 };
    match value {
        Scalar::Null if key.nulls_first => 0,
        Scalar::Null => u64::MAX,
        Scalar::Int(_) | Scalar::Real(_) => {
            let (whole, fraction) = floor(value);
            let small = whole.clamp(-SMALL, SMALL) + SMALL;
            let is_small = (1..2 * SMALL).contains(&small);
            let small = if key.descending { 2 * SMALL - small } else { small };
            let second = match fraction {
                _ if !is_small => 0,
                // Behind all that have the same whole number, or in front of them.
                true if key.descending => 0,
                true => u32::MAX,
                false => next(),
            };
            class(false) | (small as u64) << 32 | u64::from(second)
        }
        text => {
            let bits = match text {
                Scalar::Time(time) if key.holds_times => (time.as_micros() + (1 << 61)) as u64,
                text => text_bits(key, text),
            };
            class(true) | if key.descending { LOW - bits } else { bits }
        }
    }
}

/// The number that a prefix alone stands for, where it is that of a whole number and nothing else.
#[inline]
pub(crate) fn whole(prefix: Prefix) -> Option<i64> {
    let small = (prefix >> 32) as i64 & ((1 << 30) - 1);
    let is_small = prefix >> 62 == 1 && (1..2 * SMALL).contains(&small);
    is_small.then(|| small - SMALL)
}

#[derive(Clone, Copy)]
struct Direction {
    descending: bool,
    nulls_first: bool,
    holds_times: bool,
    collation: Collation,
}

impl Direction {
    const TIE: Self = Self {
        descending: false,
        nulls_first: true,
        holds_times: false,
        collation: Collation::Binary,
    };

    fn of(key: &OrderKey) -> Self {
        Self {
            descending: key.descending,
            nulls_first: key.nulls_first,
            holds_times: key.holds_times,
            collation: key.collation,
        }
    }
}

/// A number's whole part, and whether it has another one.
fn floor(value: &Scalar<'_>) -> (i64, bool) {
    match value {
        Scalar::Int(number) => (*number, false),
        Scalar::Real(number) => (number.floor() as i64, number.fract() != 0.0),
        _ => (0, false),
    }
}

/// The second value of an order, in 32 bits.
fn second(key: Direction, value: &Scalar<'_>) -> u32 {
    let bits = match value {
        Scalar::Null if key.nulls_first => return 0,
        Scalar::Null => return u32::MAX,
        Scalar::Int(_) | Scalar::Real(_) => {
            (1 + floor(value).0.clamp(-SMALLER, SMALLER) + SMALLER) as u32
        }
        text => 2 + 2 * SMALLER as u32 + (text_bits(key, text) >> 46) as u32,
    };
    if key.descending { u32::MAX - bits } else { bits }
}

/// The first seven of the bytes by which a text stands in its order.
fn text_bits(key: Direction, text: &Scalar<'_>) -> u64 {
    let time;
    let text = match text {
        Scalar::Str(text) => text,
        Scalar::Text(text) => &**text,
        Scalar::Time(of) => {
            time = of.text();
            time.as_str()
        }
        _ => return 0,
    };
    let bytes = key.collation.key(text, 7);
    let mut first = [0; 8];
    let len = bytes.len().min(7);
    first[1..=len].copy_from_slice(&bytes[..len]);
    u64::from_be_bytes(first) << 6
}

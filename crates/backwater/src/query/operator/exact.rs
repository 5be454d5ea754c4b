//! Exact sums of binary64 numbers: what was added can be taken away again without a trace.
//!
//! The sum is a whole number of units of 2^-1074, the smallest binary64, held in digits of 32 bits
//! that may run over for a while. Adding and subtracting are exact, so the order does not matter,
//! and the sum is rounded once, when it is read.

use smallvec::SmallVec;

const DIGIT: u32 = 32;
/// This many additions cannot overflow a digit.
const CARRY_AFTER: u32 = 1 << 30;

/// An exact sum.
#[derive(Debug, Clone, Default)]
pub(crate) struct ExactSum {
    /// The place of the first digit kept, in digits above 2^-1074.
    first: usize,
    digits: SmallVec<[i64; 4]>,
    additions: u32,
    /// Infinities do not add up; they are counted by sign.
    infinite: [i64; 2],
}

impl ExactSum {
    /// Adds a number `times` times, -1 to take it away. NaN, which SQL does not have, is nothing.
    pub(crate) fn add(&mut self, number: f64, times: i64) {
        if number.is_infinite() {
            self.infinite[usize::from(number < 0.0)] += times;
            return;
        }
        if number == 0.0 || number.is_nan() {
            return;
        }
        let bits = number.to_bits();
        let exponent = (bits >> 52 & 0x7ff) as u32;
        let fraction = bits & ((1 << 52) - 1);
        let mantissa = if exponent == 0 { fraction } else { fraction | 1 << 52 };
        let sign = if number < 0.0 { -times } else { times };
        self.add_bits(u128::from(mantissa), exponent.max(1) - 1, sign);
    }

    /// Adds a whole number.
    pub(crate) fn add_int(&mut self, number: i128) {
        // 1 is 2^1074 units. Two halves, so that each fits the digits with its shift.
        let sign = if number < 0 { -1 } else { 1 };
        let magnitude = number.unsigned_abs();
        self.add_bits(magnitude & u128::from(u64::MAX), 1074, sign);
        self.add_bits(magnitude >> 64, 1074 + 64, sign);
    }

    /// Adds `bits` shifted left by `shift`; `bits` has at most 64 of them.
    fn add_bits(&mut self, bits: u128, shift: u32, sign: i64) {
        let place = (shift / DIGIT) as usize;
        let mut rest = bits << (shift % DIGIT);
        self.make_room(place, 3);
        for digit in &mut self.digits[place - self.first..][..3] {
            *digit += sign * (rest & 0xffff_ffff) as i64;
            rest >>= DIGIT;
        }
        self.additions += 1;
        if self.additions == CARRY_AFTER {
            let (negative, digits) = self.magnitude();
            let sign = if negative { -1 } else { 1 };
            self.digits = digits.into_iter().map(|digit| sign * i64::from(digit)).collect();
            self.additions = 0;
        }
    }

    fn make_room(&mut self, place: usize, count: usize) {
        if self.digits.is_empty() {
            self.first = place;
        }
        if place < self.first {
            self.digits.insert_many(0, std::iter::repeat_n(0, self.first - place));
            self.first = place;
        }
        let needed = place + count - self.first;
        if self.digits.len() < needed {
            self.digits.resize(needed, 0);
        }
    }

    /// Sign and digits with the carries done.
    fn magnitude(&self) -> (bool, Vec<u32>) {
        let carry = |digits: &mut dyn Iterator<Item = i64>| {
            let mut carried = 0_i64;
            let mut out = Vec::with_capacity(self.digits.len() + 2);
            for digit in digits {
                let sum = digit + carried;
                out.push(sum as u32);
                carried = sum >> DIGIT;
            }
            while carried > 0 {
                out.push(carried as u32);
                carried >>= DIGIT;
            }
            (carried, out)
        };
        let (carried, digits) = carry(&mut self.digits.iter().copied());
        if carried >= 0 {
            return (false, digits);
        }
        let (_, digits) = carry(&mut self.digits.iter().map(|digit| -digit));
        (true, digits)
    }

    /// The sum, rounded to the nearest binary64, ties to even; `None` if infinities of both signs
    /// are in it.
    pub(crate) fn value(&self) -> Option<f64> {
        match self.infinite {
            [0, 0] => {}
            [_, 0] => return Some(f64::INFINITY),
            [0, _] => return Some(f64::NEG_INFINITY),
            _ => return None,
        }
        let (negative, digits) = self.magnitude();
        let Some(top) = digits.iter().rposition(|digit| *digit != 0) else {
            return Some(0.0);
        };
        // The three highest digits hold at least 65 bits from the highest one on.
        let low = top.saturating_sub(2);
        let high =
            (low..=top).rev().fold(0_u128, |bits, place| bits << DIGIT | u128::from(digits[place]));
        let lost = digits[..low].iter().any(|digit| *digit != 0);
        let unit = (self.first + low) as u32 * DIGIT;
        let magnitude = f64::from_bits(round(high, unit, lost));
        Some(if negative { -magnitude } else { magnitude })
    }
}

/// The bits of the binary64 nearest to `high` units of 2^(`unit` - 1074), where `lost` says that a
/// little more was there.
fn round(high: u128, unit: u32, lost: bool) -> u64 {
    const INFINITY: u64 = 0x7ff << 52;
    let highest = high.ilog2() + unit;
    if highest < 53 {
        // Subnormal numbers and the first normal ones are spelled by their bits.
        return (high << unit) as u64;
    }
    let shift = highest - 52;
    if shift <= unit {
        let mantissa = (high << (unit - shift)) as u64;
        return bits(mantissa, shift).min(INFINITY);
    }
    let cut = shift - unit;
    let mantissa = (high >> cut) as u64;
    let rest = high & ((1 << cut) - 1);
    let half = 1_u128 << (cut - 1);
    let up = rest > half || rest == half && (lost || mantissa & 1 == 1);
    (bits(mantissa, shift) + u64::from(up)).min(INFINITY)
}

/// A mantissa of 53 bits with its exponent; one more carries over into the exponent by itself.
fn bits(mantissa: u64, shift: u32) -> u64 {
    ((u64::from(shift) + 1) << 52) + (mantissa - (1 << 52))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn finite() -> impl Strategy<Value = f64> {
        prop_oneof![
            any::<f64>().prop_filter("finite", |number| number.is_finite()),
            -1e6..1e6,
            Just(5e-324),
            Just(f64::MAX),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// One number comes out as it went in, also after others were added and removed in between.
        #[test]
        fn leaves_no_trace(kept in finite(), passing in prop::collection::vec(finite(), 0..20)) {
            let mut sum = ExactSum::default();
            passing.iter().for_each(|number| sum.add(*number, 1));
            sum.add(kept, 1);
            passing.iter().rev().for_each(|number| sum.add(*number, -1));
            prop_assert_eq!(sum.value(), Some(kept + 0.0));
        }

        /// The hardware rounds the sum of two numbers to nearest even, and so do we.
        #[test]
        fn rounds_as_the_hardware_does(a in finite(), b in finite(), int in any::<i64>()) {
            let mut sum = ExactSum::default();
            sum.add(a, 1);
            sum.add(b, 1);
            prop_assert_eq!(sum.value(), Some(a + b));
            let mut whole = ExactSum::default();
            whole.add_int(int.into());
            prop_assert_eq!(whole.value(), Some(int as f64));
        }
    }
}

//! How many users there are in words and in lists: by the processor's instruction that counts bits, where it has one. Without
//! it counting takes several times as long, and the audit counts on every resource that is like no other.

use fixedbitset::FixedBitSet;
use multiversion::multiversion;

/// In words.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(crate) fn words(of: &[u64]) -> u32 {
    // A loop by itself: what iterators sum is made into code of its own, which knows nothing of the instruction.
    let mut sum = 0;
    for word in of {
        sum += word.count_ones();
    }
    sum
}

/// In two rows of words at once.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(crate) fn both_words(a: &[u64], b: &[u64]) -> u32 {
    let mut sum = 0;
    for (a, b) in a.iter().zip(b) {
        sum += (a & b).count_ones();
    }
    sum
}

/// In either of two rows of words, and in a third one.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(crate) fn of_either(a: &[u64], b: &[u64], c: &[u64]) -> u32 {
    let mut sum = 0;
    for ((a, b), c) in a.iter().zip(b).zip(c) {
        sum += ((a | b) & c).count_ones();
    }
    sum
}

/// In a list.
pub fn listed(of: &FixedBitSet) -> u32 {
    bits(of.as_slice())
}

/// In two lists at once.
pub fn both(a: &FixedBitSet, b: &FixedBitSet) -> u32 {
    both_bits(a.as_slice(), b.as_slice())
}

/// In a list, and not in another one.
pub fn without(a: &FixedBitSet, b: &FixedBitSet) -> u32 {
    listed(a) - both(a, b)
}

/// In three lists at once.
pub fn all_three(a: &FixedBitSet, b: &FixedBitSet, c: &FixedBitSet) -> u32 {
    all_bits(a.as_slice(), b.as_slice(), c.as_slice())
}

#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn bits(of: &[usize]) -> u32 {
    let mut sum = 0;
    for word in of {
        sum += word.count_ones();
    }
    sum
}

#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn both_bits(a: &[usize], b: &[usize]) -> u32 {
    let mut sum = 0;
    for (a, b) in a.iter().zip(b) {
        sum += (a & b).count_ones();
    }
    sum
}

#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn all_bits(a: &[usize], b: &[usize], c: &[usize]) -> u32 {
    let mut sum = 0;
    for ((a, b), c) in a.iter().zip(b).zip(c) {
        sum += (a & b & c).count_ones();
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;

    /// As the lists count themselves, also where they are not equally long.
    #[test]
    fn lists_are_counted_as_they_count_themselves() {
        let mut rng = fastrand::Rng::with_seed(3);
        for _ in 0..200 {
            let [a, b, c] = [(); 3].map(|()| {
                let people = rng.usize(0..400);
                let mut list = FixedBitSet::with_capacity(people);
                (0..people).filter(|_| rng.bool()).for_each(|user| list.insert(user));
                list
            });
            assert_eq!(listed(&a) as usize, a.count_ones(..));
            assert_eq!(both(&a, &b) as usize, a.intersection_count(&b));
            assert_eq!(without(&a, &b) as usize, a.difference_count(&b));
            let mut all = a.clone();
            all.intersect_with(&b);
            assert_eq!(all_three(&a, &b, &c) as usize, all.intersection_count(&c));
            let words_of = |list: &FixedBitSet| list.as_slice().iter().map(|word| *word as u64).collect::<Vec<u64>>();
            assert_eq!(words(&words_of(&a)), listed(&a));
            assert_eq!(both_words(&words_of(&a), &words_of(&b)), both(&a, &b));
            if a.as_slice().len() == b.as_slice().len() {
                let either = a.union(&b).filter(|user| c.contains(*user)).count();
                assert_eq!(of_either(&words_of(&a), &words_of(&b), &words_of(&c)) as usize, either);
            }
        }
    }
}

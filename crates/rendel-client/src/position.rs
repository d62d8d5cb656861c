//! Positions in text count Unicode scalar values; some editors count UTF-16 code units. These turn
//! one into the other.

/// The scalar values before a code unit of the text, or those that it has. One in the middle of a
/// pair counts as before the pair. Cost O(units).
pub fn to_scalars(text: &str, units: usize) -> usize {
    let mut left = units;
    let fits = |one: &char| {
        let size = one.len_utf16();
        let is_before = size <= left;
        left = left.saturating_sub(size);
        is_before
    };
    text.chars().take_while(fits).count()
}

/// The code units before a scalar value of the text, or those that it has. Cost O(scalars).
pub fn to_units(text: &str, scalars: usize) -> usize {
    text.chars().take(scalars).map(char::len_utf16).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_turn_into_each_other_and_the_middle_of_a_pair_counts_as_before_it() {
        let text = "a\u{1f34e}e\u{301}ש";
        assert_eq!(
            [0, 1, 2, 3, 4, 5, 6, 9].map(|units| to_scalars(text, units)),
            [0, 1, 1, 2, 3, 4, 5, 5]
        );
        assert_eq!(
            [0, 1, 2, 3, 4, 5, 9].map(|scalars| to_units(text, scalars)),
            [0, 1, 3, 4, 5, 6, 6]
        );
    }
}

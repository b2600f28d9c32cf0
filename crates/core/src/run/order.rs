//! The order in which calls are made.

use std::collections::HashMap;

/// First, last and middle of each group first, so that trouble anywhere shows early; then the rest as it was. Items of a
/// group stand in their order. Returns the items' indices.
#[must_use]
pub fn spread(groups: &[usize]) -> Vec<usize> {
    let mut of: HashMap<usize, Vec<usize>> = HashMap::new();
    for (at, group) in groups.iter().enumerate() {
        of.entry(*group).or_default().push(at);
    }
    let rank = |at: usize| {
        let own = &of[&groups[at]];
        let place = own.partition_point(|other| *other < at);
        match place {
            0 => 0,
            place if place == own.len() - 1 => 1,
            place if place == (own.len() - 1) / 2 => 2,
            _ => 3,
        }
    };
    let mut order: Vec<usize> = (0..groups.len()).collect();
    order.sort_by_key(|at| (rank(*at), *at));
    order
}

#[cfg(test)]
mod tests {
    use super::spread;

    #[test]
    fn first_last_and_middle_of_each_come_before_the_rest() {
        assert_eq!(spread(&[7, 7, 7, 7, 7, 8, 8, 8, 9]), [0, 5, 8, 4, 7, 2, 6, 1, 3]);
        assert_eq!(spread(&[]), [] as [usize; 0]);
    }
}

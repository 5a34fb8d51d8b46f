//! Cycles, each shown as the shortest one through its members.

use std::collections::{HashMap, HashSet, VecDeque};

/// An edge of a graph whose nodes are numbered: `from` needs `to`.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Edge {
    /// The node that needs.
    pub from: u32,
    /// The node that is needed.
    pub to: u32,
}

/// A cycle: each node needs the next one, and the last one needs the first. It starts with the
/// smallest number.
#[derive(Clone, PartialEq, Eq, Hash, Debug, PartialOrd, Ord)]
pub struct Cycle {
    /// The nodes on the way, each once.
    pub nodes: Vec<u32>,
}

/// Cycles such that every edge which lies on any cycle lies on one of these, each of them the
/// shortest cycle through some edge; sorted, each once.
pub fn shortest_cycles(nodes: u32, edges: &[Edge]) -> Vec<Cycle> {
    if is_acyclic(nodes, edges) {
        return Vec::new();
    }
    let mut next: Vec<Vec<u32>> = vec![Vec::new(); nodes as usize];
    for edge in edges {
        next[edge.from as usize].push(edge.to);
    }
    for list in &mut next {
        list.sort_unstable();
        list.dedup();
    }
    let component = components(&next);
    let mut covered: HashSet<Edge> = HashSet::new();
    let mut cycles: Vec<Cycle> = Vec::new();
    for from in 0..nodes {
        for &to in &next[from as usize] {
            let edge = Edge { from, to };
            if component[from as usize] != component[to as usize] || covered.contains(&edge) {
                continue;
            }
            // `to` leads back to `from`, since both are in one component.
            let mut way = shortest_way(&next, &component, to, from);
            for (i, node) in way.iter().enumerate() {
                covered.insert(Edge {
                    from: *node,
                    to: way[(i + 1) % way.len()],
                });
            }
            let smallest = way
                .iter()
                .enumerate()
                .min_by_key(|(_, n)| **n)
                .map_or(0, |(i, _)| i);
            way.rotate_left(smallest);
            cycles.push(Cycle { nodes: way });
        }
    }
    cycles.sort();
    cycles.dedup();
    cycles
}

/// Whether nodes that nothing leads to can be taken away until none is left (Kahn 1962): nearly
/// always, and much cheaper to find out than the cycles.
pub fn is_acyclic(nodes: u32, edges: &[Edge]) -> bool {
    let count = nodes as usize;
    // The targets of each node's edges lie side by side, from its start to that of the next one.
    let mut starts = vec![0u32; count + 1];
    let mut incoming = vec![0u32; count];
    for edge in edges {
        starts[edge.from as usize + 1] += 1;
        incoming[edge.to as usize] += 1;
    }
    for node in 0..count {
        starts[node + 1] += starts[node];
    }
    let mut targets = vec![0u32; edges.len()];
    let mut at = starts.clone();
    for edge in edges {
        let place = &mut at[edge.from as usize];
        targets[*place as usize] = edge.to;
        *place += 1;
    }
    let mut free: Vec<u32> = (0..nodes)
        .filter(|node| incoming[*node as usize] == 0)
        .collect();
    let mut taken = 0;
    while let Some(node) = free.pop() {
        taken += 1;
        for to in &targets[starts[node as usize] as usize..starts[node as usize + 1] as usize] {
            incoming[*to as usize] -= 1;
            if incoming[*to as usize] == 0 {
                free.push(*to);
            }
        }
    }
    taken == count
}

/// The nodes on a shortest way from `start` to `end`, both included, within one component.
fn shortest_way(next: &[Vec<u32>], component: &[u32], start: u32, end: u32) -> Vec<u32> {
    let mut before: HashMap<u32, u32> = HashMap::from([(start, start)]);
    let mut queue = VecDeque::from([start]);
    while let Some(node) = queue.pop_front() {
        if node == end {
            break;
        }
        for &to in &next[node as usize] {
            if component[to as usize] == component[start as usize] && !before.contains_key(&to) {
                before.insert(to, node);
                queue.push_back(to);
            }
        }
    }
    let mut way = vec![end];
    let mut node = end;
    while node != start {
        match before.get(&node) {
            Some(&from) => node = from,
            None => break,
        }
        way.push(node);
    }
    way.reverse();
    way
}

/// The number of the strongly connected component of each node (Tarjan 1972, with explicit stacks).
pub fn components(next: &[Vec<u32>]) -> Vec<u32> {
    const NONE: u32 = u32::MAX;
    let count = next.len();
    let (mut index, mut low, mut component) =
        (vec![NONE; count], vec![0u32; count], vec![NONE; count]);
    let (mut on_stack, mut stack, mut counter, mut found) =
        (vec![false; count], Vec::new(), 0u32, 0u32);
    for root in 0..count as u32 {
        if index[root as usize] != NONE {
            continue;
        }
        let mut work: Vec<(u32, usize)> = vec![(root, 0)];
        while let Some(&mut (node, ref mut edge)) = work.last_mut() {
            let at = node as usize;
            if *edge == 0 {
                index[at] = counter;
                low[at] = counter;
                counter += 1;
                stack.push(node);
                on_stack[at] = true;
            }
            if let Some(&to) = next[at].get(*edge) {
                *edge += 1;
                if index[to as usize] == NONE {
                    work.push((to, 0));
                } else if on_stack[to as usize] {
                    low[at] = low[at].min(index[to as usize]);
                }
                continue;
            }
            work.pop();
            if let Some(&(above, _)) = work.last() {
                low[above as usize] = low[above as usize].min(low[at]);
            }
            if low[at] == index[at] {
                while let Some(member) = stack.pop() {
                    on_stack[member as usize] = false;
                    component[member as usize] = found;
                    if member == node {
                        break;
                    }
                }
                found += 1;
            }
        }
    }
    component
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cycles(nodes: u32, edges: &[(u32, u32)]) -> Vec<Vec<u32>> {
        let edges: Vec<Edge> = edges.iter().map(|&(from, to)| Edge { from, to }).collect();
        shortest_cycles(nodes, &edges)
            .into_iter()
            .map(|c| c.nodes)
            .collect()
    }

    #[test]
    fn shows_each_cycle_once_and_short() {
        assert_eq!(cycles(3, &[(0, 1), (1, 2)]), Vec::<Vec<u32>>::new());
        assert_eq!(
            cycles(3, &[(0, 1), (1, 0), (1, 2), (2, 1)]),
            [vec![0, 1], vec![1, 2]]
        );
        assert_eq!(
            cycles(4, &[(0, 1), (1, 2), (2, 3), (3, 0), (2, 0)]),
            [vec![0, 1, 2], vec![0, 1, 2, 3]]
        );
        assert_eq!(cycles(1, &[(0, 0)]), [vec![0]]);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn cycles_are_real_and_complete(edges in prop::collection::vec((0u32..8, 0u32..8), 0..24)) {
            let reach = |from: u32, to: u32| {
                let mut seen = vec![from];
                let mut at = 0;
                while at < seen.len() {
                    for (a, b) in &edges {
                        if *a == seen[at] && !seen.contains(b) { seen.push(*b); }
                    }
                    at += 1;
                }
                seen.contains(&to)
            };
            let found = cycles(8, &edges);
            for cycle in &found {
                for (i, node) in cycle.iter().enumerate() {
                    prop_assert!(edges.contains(&(*node, cycle[(i + 1) % cycle.len()])));
                }
            }
            for (from, to) in &edges {
                let covered = found.iter().any(|c| c.iter().enumerate()
                    .any(|(i, n)| n == from && c[(i + 1) % c.len()] == *to));
                prop_assert_eq!(covered, reach(*to, *from));
            }
        }
    }
}

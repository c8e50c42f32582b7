//! Directed graphs over small numbers: which nodes lie on a cycle.
//!
//! Files that use files, macros that call macros and rules that fire rules are such graphs. Their
//! depth is the input's, so nothing here recurses.

/// The number of the strongly connected component of each node. Two nodes have the same number
/// exactly if each can be reached from the other (Tarjan 1972); what a component leads to has
/// smaller numbers. Linear in nodes and edges.
pub(super) fn components(edges: &[Vec<usize>]) -> Vec<usize> {
    const UNSEEN: usize = usize::MAX;
    let mut component = vec![UNSEEN; edges.len()];
    let mut order = vec![UNSEEN; edges.len()];
    let mut lowest = vec![UNSEEN; edges.len()];
    let (mut seen, mut found) = (0, 0);
    let mut unassigned = Vec::new();
    // Nodes that are being visited, each with the index of its next edge.
    let mut visits: Vec<(usize, usize)> = Vec::new();
    for root in 0..edges.len() {
        if order[root] != UNSEEN {
            continue;
        }
        visits.push((root, 0));
        while let Some((node, next)) = visits.last_mut() {
            let node = *node;
            if *next == 0 {
                order[node] = seen;
                lowest[node] = seen;
                seen += 1;
                unassigned.push(node);
            }
            if let Some(target) = edges[node].get(*next).copied() {
                *next += 1;
                if order[target] == UNSEEN {
                    visits.push((target, 0));
                } else if component[target] == UNSEEN {
                    lowest[node] = lowest[node].min(order[target]);
                }
                continue;
            }
            visits.pop();
            if let Some((parent, _)) = visits.last() {
                lowest[*parent] = lowest[*parent].min(lowest[node]);
            }
            if lowest[node] == order[node] {
                while let Some(member) = unassigned.pop() {
                    component[member] = found;
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

/// For each node, whether an edge path leads from it back to it.
pub(super) fn on_cycle(edges: &[Vec<usize>]) -> Vec<bool> {
    let component = components(edges);
    let mut sizes = vec![0; edges.len()];
    for number in &component {
        sizes[*number] += 1;
    }
    let is_on_cycle = |node: usize| sizes[component[node]] > 1 || edges[node].contains(&node);
    (0..edges.len()).map(is_on_cycle).collect()
}

/// For each node, whether it is marked or an edge path leads from it to one that is.
pub(super) fn reaches(edges: &[Vec<usize>], mut marked: Vec<bool>) -> Vec<bool> {
    let mut sources = vec![Vec::new(); edges.len()];
    for (node, targets) in edges.iter().enumerate() {
        for target in targets {
            sources[*target].push(node);
        }
    }
    let mut open: Vec<usize> = (0..edges.len()).filter(|node| marked[*node]).collect();
    while let Some(node) = open.pop() {
        for source in &sources[node] {
            if !std::mem::replace(&mut marked[*source], true) {
                open.push(*source);
            }
        }
    }
    marked
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_chain_has_no_cycle_whatever_its_length() {
        let chain: Vec<Vec<usize>> = (0..100_000)
            .map(|node| if node + 1 < 100_000 { vec![node + 1] } else { vec![] })
            .collect();
        assert!(on_cycle(&chain).iter().all(|on| !on));
    }

    #[test]
    fn a_ring_is_one_component_and_what_leads_to_it_is_not() {
        let mut ring: Vec<Vec<usize>> = (0..50_000).map(|node| vec![(node + 1) % 50_000]).collect();
        ring.push(vec![0]);
        let on = on_cycle(&ring);
        assert!(on[..50_000].iter().all(|on| *on));
        assert!(!on[50_000]);
    }

    #[test]
    fn two_rings_with_a_bridge_stay_two_components() {
        let edges = vec![vec![1], vec![0, 2], vec![3], vec![2], vec![4], vec![]];
        let component = components(&edges);
        assert_eq!(component[0], component[1]);
        assert_eq!(component[2], component[3]);
        assert_ne!(component[0], component[2]);
        assert_eq!(on_cycle(&edges), [true, true, true, true, true, false]);
    }

    #[test]
    fn what_leads_to_a_marked_node_reaches_it() {
        let edges = vec![vec![1], vec![2], vec![1], vec![3], vec![]];
        let marked = vec![false, false, true, false, false];
        assert_eq!(reaches(&edges, marked), [true, true, true, false, false]);
    }
}

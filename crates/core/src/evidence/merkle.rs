//! Merkle trees over what was learned on a day (RFC 6962, section 2.1): one digest for all rows, and a short proof for each of them.

use ring::digest::{Context, SHA256};

/// A SHA-256 digest.
pub type Hash = [u8; 32];

/// No tree is deeper: it would have more leaves than a `usize` counts.
const MAX_DEPTH: usize = 64;

fn hashed(prefix: Option<u8>, parts: &[&[u8]]) -> Hash {
    let mut context = Context::new(&SHA256);
    if let Some(prefix) = prefix {
        context.update(&[prefix]);
    }
    parts.iter().for_each(|part| context.update(part));
    let mut hash = [0; 32];
    hash.copy_from_slice(context.finish().as_ref());
    hash
}

/// Returns the digest of a leaf.
pub fn leaf(bytes: &[u8]) -> Hash {
    hashed(Some(0), &[bytes])
}

fn node(left: &Hash, right: &Hash) -> Hash {
    hashed(Some(1), &[left, right])
}

/// The digests of a tree, kept so that many paths are found without hashing it again.
pub struct Tree {
    leaves: Vec<Hash>,
    /// From the leaves up: at each level the digests of whole subtrees of that height; an odd one at the end goes up as it is.
    levels: Vec<Vec<Hash>>,
}

impl Tree {
    /// Builds the tree over leaves, which it sorts.
    pub fn of(mut leaves: Vec<Hash>) -> Self {
        leaves.sort_unstable();
        let mut levels = Vec::new();
        let mut below = leaves.as_slice();
        while below.len() > 1 {
            let above: Vec<Hash> = below
                .chunks(2)
                .map(|pair| match pair {
                    [left, right] => node(left, right),
                    odd => odd[0],
                })
                .collect();
            levels.push(above);
            below = levels.last().map_or(&[], Vec::as_slice);
        }
        Self { leaves, levels }
    }

    /// Returns the digest of the tree.
    pub fn root(&self) -> Hash {
        match self.levels.last() {
            Some(top) => top[0],
            None => self.leaves.first().copied().unwrap_or_else(|| hashed(None, &[])),
        }
    }

    /// Returns its leaves, sorted.
    pub fn leaves(&self) -> &[Hash] {
        &self.leaves
    }

    /// Returns how many leaves it has.
    pub fn len(&self) -> usize {
        self.leaves.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.leaves.is_empty()
    }

    /// Returns the place of a leaf and what proves it; none if the tree does not have it.
    pub fn proof(&self, leaf: &Hash) -> Option<(usize, Vec<Hash>)> {
        let place = self.leaves.binary_search(leaf).ok()?;
        let mut path = Vec::new();
        let mut at = place;
        for level in std::iter::once(&self.leaves).chain(&self.levels) {
            if let Some(beside) = level.get(at ^ 1) {
                path.push(*beside);
            }
            at /= 2;
        }
        Some((place, path))
    }
}

/// Returns whether a path proves that a leaf is at this place of a tree with so many leaves and this digest.
pub fn proves(leaf: Hash, place: usize, leaves: usize, path: &[Hash], of_tree: &Hash) -> bool {
    if place >= leaves || path.len() > MAX_DEPTH {
        return false;
    }
    let (mut at, mut last, mut digest) = (place, leaves - 1, leaf);
    for beside in path {
        if last == 0 {
            return false;
        }
        if at % 2 == 1 || at == last {
            digest = node(beside, &digest);
            // An odd one at the end went up as it was.
            while at % 2 == 0 && at != 0 {
                (at, last) = (at / 2, last / 2);
            }
        } else {
            digest = node(&digest, beside);
        }
        (at, last) = (at / 2, last / 2);
    }
    last == 0 && digest == *of_tree
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::hex;

    /// As the standard defines it: the largest power of two that is smaller than the number of leaves goes to the left.
    fn root(leaves: &[Hash]) -> Hash {
        match leaves {
            [] => hashed(None, &[]),
            [one] => *one,
            more => {
                let (left, right) = more.split_at(more.len().next_power_of_two() / 2);
                node(&root(left), &root(right))
            }
        }
    }

    fn path(leaves: &[Hash], place: usize) -> Vec<Hash> {
        if leaves.len() == 1 {
            return Vec::new();
        }
        let (left, right) = leaves.split_at(leaves.len().next_power_of_two() / 2);
        if place < left.len() {
            [path(left, place), vec![root(right)]].concat()
        } else {
            [path(right, place - left.len()), vec![root(left)]].concat()
        }
    }

    fn leaves(count: u8) -> Vec<Hash> {
        let mut leaves: Vec<Hash> = (0..count).map(|byte| leaf(&[byte])).collect();
        leaves.sort_unstable();
        leaves
    }

    #[test]
    fn digests_are_those_of_the_standard() {
        // SHA-256 of nothing, of one zero byte, and of 0x01 with two leaves, by sha256sum.
        assert_eq!(hex(&root(&[])), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
        assert_eq!(hex(&leaf(b"")), "6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d");
        let two = [leaf(b""), leaf(&[0])];
        assert_eq!(hex(&root(&two)), "fac54203e7cc696cf0dfcb42c92a1d9dbaf70ad9e621f4bd8d98662f00e3c125");
    }

    #[test]
    fn each_leaf_of_each_tree_is_proven_at_its_place_and_at_no_other() {
        for count in 1..=40_u8 {
            let leaves = leaves(count);
            let tree = Tree::of(leaves.clone());
            assert_eq!(tree.root(), root(&leaves), "{count}");
            for (place, leaf) in leaves.iter().enumerate() {
                let (found, beside) = tree.proof(leaf).expect("a leaf of it");
                assert_eq!((found, &beside), (place, &path(&leaves, place)), "{count}");
                assert!(proves(*leaf, place, leaves.len(), &beside, &tree.root()), "{place} of {count}");
                for other in (0..=leaves.len()).filter(|other| *other != place) {
                    assert!(!proves(*leaf, other, leaves.len(), &beside, &tree.root()), "{place} as {other}");
                }
                assert!(!proves(node(leaf, leaf), place, leaves.len(), &beside, &tree.root()));
            }
        }
        assert!(Tree::of(leaves(3)).proof(&leaf(b"another")).is_none());
        assert_eq!((Tree::of(Vec::new()).root(), Tree::of(Vec::new()).is_empty()), (root(&[]), true));
    }

    #[test]
    fn a_path_of_another_length_proves_nothing() {
        let leaves = leaves(5);
        let path = path(&leaves, 0);
        assert!(!proves(leaves[0], 0, 5, &path[..2], &root(&leaves)));
        assert!(!proves(leaves[0], 0, 5, &[path.clone(), vec![[0; 32]]].concat(), &root(&leaves)));
        assert!(!proves(leaves[0], 0, 5, &vec![[0; 32]; 65], &root(&leaves)));
    }
}

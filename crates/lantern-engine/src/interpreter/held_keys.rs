//! Every key that is down by our doing, and who holds it.

use std::collections::BTreeMap;

use lantern_model::{Key, RunId};

/// The owner of a held key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Owner {
    /// A run that pressed it.
    Run(RunId),
    /// A `hold` block of a run, by its depth among the run's blocks.
    Block(RunId, usize),
    /// A toggle of the person's.
    Toggle,
}

impl Owner {
    /// The run it belongs to, if any.
    pub fn run(self) -> Option<RunId> {
        match self {
            Owner::Run(run) | Owner::Block(run, _) => Some(run),
            Owner::Toggle => None,
        }
    }
}

/// Held keys with their owners. A key is down while it has an owner.
#[derive(Debug, Default)]
pub(crate) struct HeldKeys {
    held: BTreeMap<Key, Vec<Owner>>,
}

impl HeldKeys {
    /// Adds an owner; whether the key must go down for it.
    pub(crate) fn press(&mut self, key: Key, owner: Owner) -> bool {
        let owners = self.held.entry(key).or_default();
        owners.push(owner);
        owners.len() == 1
    }

    /// Takes one share of an owner away; whether the key must go up for it.
    pub(crate) fn release(&mut self, key: Key, owner: Owner) -> bool {
        let Some(owners) = self.held.get_mut(&key) else {
            return false;
        };
        let Some(index) = owners.iter().rposition(|known| *known == owner) else {
            return false;
        };
        owners.remove(index);
        let free = owners.is_empty();
        if free {
            self.held.remove(&key);
        }
        free
    }

    pub(crate) fn holds(&self, key: Key, owner: Owner) -> bool {
        self.held.get(&key).is_some_and(|owners| owners.contains(&owner))
    }

    /// Takes away every share for which `gone` holds; gives the keys that must go up.
    pub(crate) fn release_all(&mut self, gone: impl Fn(Owner) -> bool) -> Vec<Key> {
        let mut free = Vec::new();
        self.held.retain(|key, owners| {
            owners.retain(|owner| !gone(*owner));
            if owners.is_empty() {
                free.push(*key);
            }
            !owners.is_empty()
        });
        free
    }

    /// Keys that the run holds.
    pub(crate) fn held_by(&self, run: RunId) -> Vec<Key> {
        self.filter(|owners| owners.iter().any(|owner| owner.run() == Some(run)))
    }

    /// Keys of the keyboard that only others than the run hold.
    pub(crate) fn held_by_others(&self, run: RunId) -> Vec<Key> {
        let mut keys = self.filter(|owners| owners.iter().all(|owner| owner.run() != Some(run)));
        keys.retain(|key| !key.is_pointer());
        keys
    }

    fn filter(&self, keep: impl Fn(&[Owner]) -> bool) -> Vec<Key> {
        let kept = self.held.iter().filter(|(_, owners)| keep(owners));
        kept.map(|(key, _)| *key).collect()
    }

    /// Every held key with its owners.
    pub(crate) fn all(&self) -> impl Iterator<Item = (Key, &[Owner])> {
        self.held.iter().map(|(key, owners)| (*key, owners.as_slice()))
    }
}

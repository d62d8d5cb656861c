//! The last of something, exactly so many and so many bytes: what a session remembers of what is
//! gone.
//!
//! What is forgotten follows from what was put in and in which order, and from nothing else, so
//! every owner of a session forgets the same. Putting in and looking up cost O(log n), a clone a
//! few pointers.

use std::fmt;
use std::marker::PhantomData;

use imbl::OrdMap;
use serde::de::{Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde::ser::{Serialize, Serializer};

/// How much is kept.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Capacity {
    pub(crate) entries: usize,
    pub(crate) bytes: usize,
}

/// Entries by key; beyond the bounds the oldest goes.
#[derive(Clone)]
pub(crate) struct Lately<K, V> {
    entries: OrdMap<K, Kept<V>>,
    order: OrdMap<u64, K>,
    next: u64,
    bytes: usize,
}

#[derive(Clone, Debug)]
struct Kept<V> {
    ord: u64,
    bytes: usize,
    value: V,
}

impl<K: Ord + Clone + fmt::Debug, V: Clone + fmt::Debug> fmt::Debug for Lately<K, V> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.iter()).finish()
    }
}

impl<K, V> Default for Lately<K, V> {
    fn default() -> Self {
        Self { entries: OrdMap::new(), order: OrdMap::new(), next: 0, bytes: 0 }
    }
}

impl<K: Ord + Clone, V: Clone> Lately<K, V> {
    /// Puts an entry in as the newest, in place of one with its key; gives how many went for it.
    pub(crate) fn put(&mut self, key: K, value: V, bytes: usize, bounds: Capacity) -> usize {
        self.take(&key);
        self.order.insert(self.next, key.clone());
        self.entries.insert(key, Kept { ord: self.next, bytes, value });
        self.next += 1;
        self.bytes += bytes;
        self.shrink(bounds)
    }

    fn shrink(&mut self, bounds: Capacity) -> usize {
        let mut gone = 0;
        while self.entries.len() > bounds.entries || self.bytes > bounds.bytes {
            let Some(oldest) = self.order.get_min().map(|(_, key)| key.clone()) else { break };
            self.take(&oldest);
            gone += 1;
        }
        gone
    }

    /// Changes an entry, or a new one, which is the newest then; `change` gives its bytes. Gives how
    /// many went for it.
    pub(crate) fn change(
        &mut self,
        key: K,
        change: impl FnOnce(&mut V) -> usize,
        bounds: Capacity,
    ) -> usize
    where
        V: Default,
    {
        let Some(kept) = self.entries.get_mut(&key) else {
            let mut value = V::default();
            let bytes = change(&mut value);
            return self.put(key, value, bytes, bounds);
        };
        let bytes = change(&mut kept.value);
        self.bytes = self.bytes - kept.bytes + bytes;
        kept.bytes = bytes;
        if kept.ord + 1 != self.next {
            self.order.remove(&kept.ord);
            kept.ord = self.next;
            self.order.insert(self.next, key);
            self.next += 1;
        }
        self.shrink(bounds)
    }

    pub(crate) fn take(&mut self, key: &K) -> Option<V> {
        let kept = self.entries.remove(key)?;
        self.order.remove(&kept.ord);
        self.bytes -= kept.bytes;
        Some(kept.value)
    }

    pub(crate) fn get<Q: Ord + ?Sized>(&self, key: &Q) -> Option<&V>
    where
        K: std::borrow::Borrow<Q>,
    {
        self.entries.get(key).map(|kept| &kept.value)
    }

    /// The entries from a key on, in the order of the keys.
    pub(crate) fn from(&self, key: &K) -> impl Iterator<Item = (&K, &V)> {
        self.entries.range::<_, K>(key..).map(|(key, kept)| (key, &kept.value))
    }

    /// The bytes of all entries.
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    /// The entries from one key to another, both included, in the order of the keys.
    pub(crate) fn between(&self, from: K, to: K) -> impl Iterator<Item = (&K, &V)> {
        self.entries.range::<_, K>(from..=to).map(|(key, kept)| (key, &kept.value))
    }

    /// All of them, the oldest first.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (&K, &V)> {
        self.order.values().filter_map(|key| self.entries.get(key).map(|kept| (key, &kept.value)))
    }
}

impl<K: Ord + Clone, V: Clone + PartialEq> PartialEq for Lately<K, V> {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl<K: Ord + Clone + Serialize, V: Clone + Serialize> Serialize for Lately<K, V> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let bytes = |key: &K| self.entries.get(key).map_or(0, |kept| kept.bytes);
        serializer.collect_seq(self.iter().map(|(key, value)| (key, value, bytes(key))))
    }
}

impl<'de, K: Ord + Clone + Deserialize<'de>, V: Clone + Deserialize<'de>> Deserialize<'de>
    for Lately<K, V>
{
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(EntriesVisitor(PhantomData))
    }
}

/// Reads entries in their order; of snapshots of before, an object in the order of its names.
struct EntriesVisitor<K, V>(PhantomData<(K, V)>);

impl<K: Ord + Clone, V: Clone> EntriesVisitor<K, V> {
    const ALL: Capacity = Capacity { entries: usize::MAX, bytes: usize::MAX };
}

impl<'de, K: Ord + Clone + Deserialize<'de>, V: Clone + Deserialize<'de>> Visitor<'de>
    for EntriesVisitor<K, V>
{
    type Value = Lately<K, V>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("entries in their order")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut entries: A) -> Result<Self::Value, A::Error> {
        let mut lately = Lately::default();
        while let Some((key, value, bytes)) = entries.next_element()? {
            lately.put(key, value, bytes, Self::ALL);
        }
        Ok(lately)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Self::Value, A::Error> {
        let mut lately = Lately::default();
        while let Some((key, value)) = entries.next_entry()? {
            lately.put(key, value, 0, Self::ALL);
        }
        Ok(lately)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Beside the obvious: a vector from which the oldest is taken.
        #[test]
        fn it_keeps_the_last_so_many_and_so_many_bytes(
            steps in prop::collection::vec((0..12u8, 0..9usize, any::<bool>()), 1..80),
        ) {
            let bounds = Capacity { entries: 5, bytes: 20 };
            let mut lately = Lately::<u8, usize>::default();
            let mut model: Vec<(u8, usize)> = Vec::new();
            for (key, bytes, is_taken) in steps {
                model.retain(|(known, _)| *known != key);
                if is_taken {
                    lately.take(&key);
                } else {
                    if bytes % 2 == 0 {
                        lately.put(key, bytes, bytes, bounds);
                    } else {
                        lately.change(key, |value| { *value = bytes; bytes }, bounds);
                    }
                    model.push((key, bytes));
                    while model.len() > 5 || model.iter().map(|(_, bytes)| bytes).sum::<usize>() > 20 {
                        model.remove(0);
                    }
                }
                prop_assert_eq!(lately.iter().map(|(key, value)| (*key, *value)).collect::<Vec<_>>(), model.clone());
                let stored: Lately<u8, usize> = serde_json::from_value(serde_json::to_value(&lately).unwrap()).unwrap();
                prop_assert!(stored == lately && stored.bytes == lately.bytes);
            }
        }
    }
}

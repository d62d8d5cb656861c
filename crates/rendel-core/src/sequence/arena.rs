//! Where the nodes of a tree lie: clones share them until one changes.

use std::sync::Arc;

/// A node's place.
pub(crate) type NodeId = u32;

/// Nodes of one chunk.
const CHUNK: usize = 64;

/// Nodes by their place. A clone costs a pointer per 64 nodes, a change of a shared node a copy of
/// it and of its chunk's pointers.
#[derive(Clone, Debug)]
pub(super) struct Arena<T>(Vec<Arc<Vec<Arc<T>>>>);

impl<T> Default for Arena<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T: Clone> Arena<T> {
    pub(super) fn add(&mut self, node: T) -> NodeId {
        let node = Arc::new(node);
        match self.0.last_mut().filter(|chunk| chunk.len() < CHUNK) {
            Some(chunk) => Arc::make_mut(chunk).push(node),
            None => self.0.push(Arc::new(vec![node])),
        }
        let full = (self.0.len() - 1) * CHUNK;
        let last = self.0.last().map_or(0, |chunk| chunk.len() - 1);
        NodeId::try_from(full + last).unwrap_or(NodeId::MAX)
    }

    pub(super) fn get(&self, id: NodeId) -> &T {
        let id = id as usize;
        &self.0[id / CHUNK][id % CHUNK]
    }

    pub(super) fn get_mut(&mut self, id: NodeId) -> &mut T {
        let id = id as usize;
        Arc::make_mut(&mut Arc::make_mut(&mut self.0[id / CHUNK])[id % CHUNK])
    }
}

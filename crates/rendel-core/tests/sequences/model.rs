//! The rule of where an insert goes, taken literally: all elements that ever were, in one row,
//! which every step walks.

/// Who did something, and in which update.
pub(crate) type Stamp = (u64, usize);

#[derive(Clone, Debug)]
struct Element<T> {
    value: T,
    born: Stamp,
    /// The how-many-eth element it is that came to be.
    birth: usize,
    died: Vec<Stamp>,
}

#[derive(Clone, Debug)]
pub(crate) struct Model<T> {
    elements: Vec<Element<T>>,
}

impl<T: Clone> Model<T> {
    pub(crate) fn new(values: impl IntoIterator<Item = T>) -> Self {
        let element =
            |(birth, value)| Element { value, born: (0, usize::MAX), birth, died: Vec::new() };
        Self { elements: values.into_iter().enumerate().map(element).collect() }
    }

    fn knows(seen: u64, by: usize, stamp: Stamp) -> bool {
        stamp.0 <= seen || stamp.1 == by
    }

    fn known(&self, seen: u64, by: usize) -> Vec<usize> {
        (0..self.elements.len())
            .filter(|at| Self::knows(seen, by, self.elements[*at].born))
            .collect()
    }

    fn visible(&self, seen: u64, by: usize) -> Vec<usize> {
        let is_gone =
            |at: &usize| self.elements[*at].died.iter().any(|stamp| Self::knows(seen, by, *stamp));
        self.known(seen, by).into_iter().filter(|at| !is_gone(at)).collect()
    }

    /// What a client sees that has seen `seen`, its own work included.
    pub(crate) fn view(&self, seen: u64, by: usize) -> Vec<T> {
        self.visible(seen, by).into_iter().map(|at| self.elements[at].value.clone()).collect()
    }

    fn alive(&self) -> impl Iterator<Item = (usize, &Element<T>)> {
        self.elements.iter().enumerate().filter(|(_, element)| element.died.is_empty())
    }

    /// What everybody sees in the end.
    pub(crate) fn values(&self) -> Vec<T> {
        self.alive().map(|(_, element)| element.value.clone()).collect()
    }

    pub(crate) fn insert(&mut self, born: Stamp, seen: u64, index: usize, value: T) {
        let known = self.known(seen, born.1);
        let left = index.checked_sub(1).map(|before| self.visible(seen, born.1)[before]);
        let right = known.iter().copied().find(|at| left.is_none_or(|left| *at > left));
        let birth = |at: usize| self.elements[at].birth;
        let place = match (left, right) {
            (None, None) => 0,
            (None, Some(right)) => right,
            (Some(left), None) => left + 1,
            (Some(left), Some(right)) => {
                if birth(right) > birth(left) {
                    right
                } else {
                    left + 1
                }
            }
        };
        self.elements
            .insert(place, Element { value, born, birth: self.elements.len(), died: Vec::new() });
    }

    pub(crate) fn remove(&mut self, died: Stamp, seen: u64, index: usize) {
        let at = self.visible(seen, died.1)[index];
        self.elements[at].died.push(died);
    }
}

impl Model<String> {
    /// Whether the element of this value that everybody sees is the one that the client sees.
    pub(crate) fn is_same(&self, value: &String, seen: u64, by: usize) -> bool {
        let is_it = |at: &usize| self.elements[*at].value == *value;
        let now = self.alive().map(|(at, _)| at).find(is_it);
        now.is_some() && now == self.visible(seen, by).into_iter().find(is_it)
    }
}

//! Layers: what each place of a sheet gives to a job, and how one is laid over another.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::source::Place;

use super::setting::{Key, Setting};

/// Which layer gave a value, from the lowest to the highest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Layer {
    /// True Path's own.
    BuiltIn,
    /// `[defaults]`.
    Defaults,
    /// `[bases.*]`.
    Base,
    /// `[[job]]`.
    Job,
    /// A job of an entry with `each`.
    Each,
    /// `[modes.*]`.
    Mode,
    /// The command line.
    CommandLine,
}

impl Layer {
    /// Its name for people.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Layer::BuiltIn => "built-in",
            Layer::Defaults => "defaults",
            Layer::Base => "base",
            Layer::Job => "job",
            Layer::Each => "each",
            Layer::Mode => "mode",
            Layer::CommandLine => "command line",
        }
    }
}

/// A value with the layer that gave it and its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Given {
    /// The value; shared, since many jobs inherit it.
    pub value: Arc<Setting>,
    /// Where it was given. `None` for built-in values.
    pub at: Option<Place>,
    /// Which layer gave it.
    pub layer: Layer,
}

/// What one layer says: values, and settings given back to the scene.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Settings {
    /// The values given.
    pub values: BTreeMap<Key, Given>,
    /// What lower layers give and this one gives back.
    pub leave: BTreeMap<Key, Option<Place>>,
    /// What was given and could not be read: said once, and not missed a second time.
    pub unread: BTreeSet<Key>,
}

impl Settings {
    /// This layer laid over a lower one. Tables (`vars`, `env`, `native`) are keyed per entry and so merge; everything
    /// else is replaced. The operation is associative, and an empty layer changes nothing.
    #[must_use]
    pub fn over(&self, below: &Settings) -> Settings {
        let mut both = below.clone();
        both.values.retain(|key, _| !self.leave.contains_key(key));
        both.values.extend(self.values.iter().map(|(key, given)| (key.clone(), given.clone())));
        both.leave.extend(self.leave.iter().map(|(key, at)| (key.clone(), *at)));
        both.unread.extend(self.unread.iter().cloned());
        both
    }

    /// The value of a key.
    #[must_use]
    pub fn get(&self, key: &Key) -> Option<&Given> {
        self.values.get(key)
    }

    /// The value of a key, without its place.
    #[must_use]
    pub fn value(&self, key: &Key) -> Option<&Setting> {
        self.get(key).map(|given| &*given.value)
    }

    /// The text of a key that holds text.
    #[must_use]
    pub fn text(&self, key: &Key) -> Option<&str> {
        match self.get(key).map(|given| &*given.value) {
            Some(Setting::Text(text)) => Some(text),
            _ => None,
        }
    }

    /// The number of a key that holds a whole number.
    #[must_use]
    pub fn whole(&self, key: &Key) -> Option<i64> {
        match self.get(key).map(|given| &*given.value) {
            Some(Setting::Whole(number)) => Some(*number),
            _ => None,
        }
    }

    /// Where a key was given.
    #[must_use]
    pub fn place(&self, key: &Key) -> Option<Place> {
        self.get(key).and_then(|given| given.at)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Arc, Given, Key, Layer, Setting, Settings};

    fn settings() -> impl Strategy<Value = Settings> {
        let key =
            prop_oneof![Just(Key::Samples), Just(Key::Camera), Just(Key::Var("a".into())), Just(Key::Var("b".into()))];
        let values = prop::collection::btree_map(key.clone(), 0i64..4, 0..4);
        (values, prop::collection::btree_set(key, 0..3)).prop_map(|(values, leave)| Settings {
            values: values
                .into_iter()
                .map(|(key, n)| (key, Given { value: Arc::new(Setting::Whole(n)), at: None, layer: Layer::Job }))
                .collect(),
            leave: leave.into_iter().map(|key| (key, None)).collect(),
            ..Settings::default()
        })
    }

    proptest! {
        #[test]
        fn layering_is_associative_and_nothing_is_neutral(a in settings(), b in settings(), c in settings()) {
            prop_assert_eq!(a.over(&b).over(&c), a.over(&b.over(&c)));
            prop_assert_eq!(a.over(&Settings::default()), a.clone());
            prop_assert_eq!(Settings::default().over(&a), a);
        }

        /// Any number of layers against a search from the top, key by key.
        #[test]
        fn many_layers_agree_with_a_search_from_the_top(layers in prop::collection::vec(settings(), 1..7)) {
            let all = layers.iter().skip(1).fold(layers[0].clone(), |below, layer| layer.over(&below));
            for key in [Key::Samples, Key::Camera, Key::Var("a".into()), Key::Var("b".into())] {
                let mut found = None;
                for layer in layers.iter().rev() {
                    found = layer.get(&key);
                    // What a layer gives back is no longer looked for below it.
                    if found.is_some() || layer.leave.contains_key(&key) {
                        break;
                    }
                }
                prop_assert_eq!(all.get(&key), found, "{}", key);
            }
        }

        #[test]
        fn the_upper_value_wins_and_a_left_one_is_gone(a in settings(), b in settings()) {
            let both = a.over(&b);
            for key in [Key::Samples, Key::Camera, Key::Var("a".into()), Key::Var("b".into())] {
                let expected = a.get(&key).or_else(|| b.get(&key).filter(|_| !a.leave.contains_key(&key)));
                prop_assert_eq!(both.get(&key), expected);
            }
        }
    }
}

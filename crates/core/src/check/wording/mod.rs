//! The words of every check of a plan, apart from its decision. Each says what is wrong in a sentence, what stands under
//! the marked characters, and what to write instead.

pub mod colour;
pub mod disk;
pub mod frames;
pub mod meeting;
pub mod movies;
pub mod names;
pub mod places;
pub mod renderer;
pub mod scene;
pub mod sheet;
pub mod size;
pub mod spelling;
pub mod types;

fn listed<T: ToString>(items: impl IntoIterator<Item = T>) -> String {
    items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

//! The files that a project is made of, besides its sheets.

use std::path::{Path, PathBuf};

use super::load;
use super::loaded::Loaded;

impl Loaded {
    /// What the jobs are made of, asked for or not: scenes, what they need, sounds, and programs that came with the project.
    pub fn needs(&self) -> Vec<(PathBuf, &'static str)> {
        let mut found: Vec<(PathBuf, &'static str)> = Vec::new();
        let plans = || self.rivals.iter().chain([&self.plan]);
        for scene in plans().flat_map(|plan| &plan.jobs).filter_map(|job| Some(&job.scene.as_ref()?.value)) {
            found.push((PathBuf::from(scene), "a scene"));
            found.push((PathBuf::from(format!("{scene}.facts.toml")), "a file that the sheet reads"));
        }
        let sounds = plans().flat_map(|plan| &plan.movies).filter_map(|movie| movie.film.as_ref()?.audio.clone());
        found.extend(sounds.map(|sound| (PathBuf::from(sound), "a sound of the sheet")));
        for (scene, facts) in &self.facts {
            let files = facts.files().filter_map(|name| load::resource(Path::new(scene), name));
            found.extend(files.map(|path| (path, "a file that a scene needs")));
        }
        let programs =
            self.adapters.values().flat_map(|adapter| adapter.program.names().map(str::to_owned).collect::<Vec<_>>());
        let programs = programs.filter(|name| name.contains('/'));
        let home = Path::new(&self.plan.home.folder);
        found.extend(programs.map(|path| (home.join(path), "a program that the sheet starts")));
        found
    }
}

//! Patterns of file names: `stack = ["lifts-*.csv"]`.

use super::{Input, Planned, Routine};
use crate::{Result, databases::name::Name, steps::Reads};
use std::path::Path;

impl Routine {
    /// Replaces each pattern by the files that match it, in the order of their names. Paths are
    /// relative to the routine's file.
    ///
    /// Errors: no file matches; the step does not stack files.
    pub(crate) fn with_matching_files(mut self, routine: &Path) -> Result<Routine> {
        let directory = routine.parent().unwrap_or(Path::new(""));
        for place in 0..self.steps.len() {
            let step = &self.steps[place];
            let (mut inputs, mut places) = (Vec::with_capacity(step.inputs.len()), Vec::new());
            for input in &step.inputs {
                match input {
                    Input::File(pattern, settings) if is_pattern(pattern, directory) => {
                        let at = self.place_in_text(step, pattern);
                        for file in self.matching(step, pattern, directory)? {
                            places.push((file.clone(), at.clone()));
                            inputs.push(Input::File(file, settings.clone()));
                        }
                    }
                    input => inputs.push(input.clone()),
                }
            }
            self.steps[place].inputs = inputs;
            self.steps[place].settings_at.extend(places);
        }
        Ok(self)
    }

    /// The files that match a pattern in a step.
    fn matching(&self, step: &Planned, pattern: &str, directory: &Path) -> Result<Vec<String>> {
        let wrong = |problem: String, advice: &str| {
            self.error(self.place_in_text(step, pattern), problem, advice)
        };
        if step.operation.reads != Reads::SeveralTables {
            let problem =
                format!("`{pattern}` is a pattern, and {} reads one file", step.operation.name);
            let advice =
                format!("stack the files in a step before this one: stack = [{pattern:?}]");
            return Err(wrong(problem, &advice));
        }
        // What is special in a directory's name is not part of the pattern.
        let of_directory = glob::Pattern::escape(&directory.display().to_string());
        let whole = if of_directory.is_empty() {
            pattern.to_owned()
        } else {
            format!("{of_directory}/{pattern}")
        };
        let found = glob::glob(&whole)
            .map_err(|error| wrong(format!("`{pattern}` is no valid pattern: {error}"), ""))?;
        // A file beside the routine is named as in the routine.
        let name = |path: std::path::PathBuf| {
            path.strip_prefix(directory).unwrap_or(&path).display().to_string()
        };
        let files: Vec<String> = found.flatten().filter(|path| path.is_file()).map(name).collect();
        if files.is_empty() {
            Err(wrong(
                format!("no file matches `{pattern}`"),
                "`*` stands for any characters but `/`, and `?` for one",
            ))
        } else {
            Ok(files)
        }
    }
}

/// Whether a name is a pattern, and not that of a file or a database.
fn is_pattern(name: &str, directory: &Path) -> bool {
    name.contains(['*', '?']) && Name::of_input(name).is_none() && !directory.join(name).exists()
}

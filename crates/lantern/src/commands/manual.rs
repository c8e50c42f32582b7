//! `lantern completions` and `lantern man`, from the same definitions as the command line itself.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use clap::CommandFactory;
use clap_complete::Shell;

use crate::arguments::Arguments;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::style;

/// Prints completions for a shell.
pub fn completions(shell: Shell) -> Result<Status, Failure> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "lantern", &mut text);
    // A reader that went away is no fault.
    let _ = io::stdout().lock().write_all(&text);
    Ok(Status::Done)
}

/// Writes a page for the program and one for each command.
pub fn write_pages(folder: &Path) -> Result<Status, Failure> {
    let failed = |source| Failure::Write { path: folder.to_owned(), source };
    fs::create_dir_all(folder).map_err(failed)?;
    let command = Arguments::command();
    let visible = command.get_subcommands().filter(|command| !command.is_hide_set());
    let pages = visible.map(|command| {
        let name = format!("lantern-{}", command.get_name());
        let shown = name.clone();
        (name, command.clone().name(shown))
    });
    let mut count = 0;
    for (name, command) in pages.chain([("lantern".to_owned(), command.clone())]) {
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page).map_err(failed)?;
        fs::write(folder.join(format!("{name}.1")), page).map_err(failed)?;
        count += 1;
    }
    complain!("{}written{0:#} {count} pages into {}", style::WENT_OUT, folder.display());
    Ok(Status::Done)
}

//! `lantern files`: every file that the program writes for itself, and their removal.

use std::fs;
use std::io::{self, BufRead, IsTerminal};
use std::path::{Path, PathBuf};

use lantern_system::home_folder;
use serde::Serialize;

use crate::arguments::FilesArguments;
use crate::commands::{print_json, service};
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::runtime::RuntimeFiles;
use crate::text::counted;
use crate::{files, style, table};

/// A file that the program writes without being given its path.
#[derive(Debug, Serialize)]
struct OwnFile {
    what: &'static str,
    path: PathBuf,
    /// Bytes; none if the file is not there.
    size: Option<u64>,
}

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct FilesReport {
    version: u32,
    files: Vec<OwnFile>,
}

pub fn run(arguments: &FilesArguments) -> Result<Status, Failure> {
    let files = own_files()?;
    if arguments.erase {
        return erase(&files, arguments.yes);
    }
    if arguments.json {
        print_json(&FilesReport { version: 1, files });
        return Ok(Status::Done);
    }
    let rows: Vec<Vec<String>> = files
        .iter()
        .map(|file| {
            let size = file.size.map_or_else(|| "-".to_owned(), |size| format!("{size} B"));
            vec![file.what.to_owned(), size, file.path.display().to_string()]
        })
        .collect();
    table::print(&["file", "size", "path"], &rows);
    complain!(
        "{}files that you name yourself (rules, scenes, drawings, pictures, --log-file) are not listed{0:#}",
        style::FAINT
    );
    Ok(Status::Done)
}

/// All files that the program writes for itself, whether they are there or not.
fn own_files() -> Result<Vec<OwnFile>, Failure> {
    let mut listed: Vec<(&'static str, PathBuf)> = Vec::new();
    if let Some(config) = home_folder("XDG_CONFIG_HOME", ".config") {
        listed.push(("your rules", config.join(files::OWN_RULES)));
    }
    if let Some(state) = home_folder("XDG_STATE_HOME", ".local/state") {
        let state = state.join("cold-lantern");
        listed.push(("agreements to used files", state.join("agreed.json")));
        listed.push(("permission for input by the portal", state.join("portal-token")));
    }
    if let Some(data) = home_folder("XDG_DATA_HOME", ".local/share") {
        listed.push(("phrases you taught", data.join("cold-lantern/voice.json")));
    }
    listed.extend(service::installed_files());
    let folder = RuntimeFiles::candidates()?.swap_remove(0).folder().to_owned();
    let session = fs::read_dir(&folder).into_iter().flatten().flatten();
    let mut session: Vec<PathBuf> = session.map(|file| file.path()).collect();
    session.sort();
    listed.extend(session.into_iter().map(|path| ("of a session", path)));
    let file = |(what, path): (&'static str, PathBuf)| {
        let size = fs::symlink_metadata(&path).ok().map(|about| about.len());
        OwnFile { what, path, size }
    };
    Ok(listed.into_iter().map(file).collect())
}

/// Removes all of them, after the person has agreed.
fn erase(files: &[OwnFile], agreed: bool) -> Result<Status, Failure> {
    if IpcClient::reach().is_ok() {
        return Err(Failure::WrongWords {
            message: "Cold Lantern runs, and uses these files".to_owned(),
            advice: "end it first: `lantern quit`".to_owned(),
        });
    }
    let there: Vec<&OwnFile> = files.iter().filter(|file| file.size.is_some()).collect();
    if there.is_empty() {
        say!("there is nothing to remove");
        return Ok(Status::Found);
    }
    for file in &there {
        complain!("{}  {}", file.path.display(), file.what);
    }
    if !agreed && !asked_for(there.len())? {
        say!("nothing was removed");
        return Ok(Status::Found);
    }
    for file in &there {
        let failed = |source| Failure::Write { path: file.path.clone(), source };
        fs::remove_file(&file.path).map_err(failed)?;
        remove_own_folder(&file.path);
    }
    // The folder of the session, which may have held nothing.
    let _ = fs::remove_dir(RuntimeFiles::candidates()?.swap_remove(0).folder());
    say!("{} removed", counted(there.len(), "file"));
    Ok(Status::Done)
}

/// Removes the folder of a file if it is ours and empty.
fn remove_own_folder(file: &Path) {
    let folder = file.parent().filter(|folder| folder.ends_with("cold-lantern"));
    if let Some(folder) = folder {
        // One that holds other files stays.
        let _ = fs::remove_dir(folder);
    }
}

fn asked_for(count: usize) -> Result<bool, Failure> {
    if !io::stdin().is_terminal() {
        return Err(Failure::WrongWords {
            message: "these files are removed only if you agree".to_owned(),
            advice: "add --yes".to_owned(),
        });
    }
    complain!(
        "remove {} for good? write yes, or anything else to keep them",
        counted(count, "file")
    );
    let mut answer = String::new();
    let failed = |source| Failure::System { what: "cannot read your answer", source };
    io::stdin().lock().read_line(&mut answer).map_err(failed)?;
    Ok(answer.trim().eq_ignore_ascii_case("yes"))
}

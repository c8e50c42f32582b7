//! `lantern add`: a rule in a minute: press the key, say what it does; it is written, checked and tried.

use std::fs::{self, OpenOptions};
use std::io::{self, BufRead, BufReader, IsTerminal, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::time::Duration;

use lantern_model::KeyCombination;
use lantern_script::codes::Code;
use lantern_system::home_folder;
use lantern_x11::capture;
use serde_json::{Value, json};

use crate::arguments::AddArguments;
use crate::diagnostics::print_findings;
use crate::failure::{Failure, Status};
use crate::files;
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::style;
use crate::text::quoted;

/// Maximum time to wait for the first try.
const TRYING: Duration = Duration::from_secs(30);

pub fn run(arguments: &AddArguments) -> Result<Status, Failure> {
    let path = match &arguments.file {
        Some(path) => path.clone(),
        None => own_file()?,
    };
    let captured =
        capture(|| complain!("{}press the key, or several together{0:#}", style::FAINT))?;
    let Some(key) = captured.key else {
        complain!("{}that key has no name here{0:#}; choose another", style::ERROR);
        return Ok(Status::Found);
    };
    let combo = KeyCombination::with(captured.families, key).to_string();
    say!("{}{combo}{0:#}", style::HEAD);
    let step = match step_of(arguments) {
        Some(step) => step,
        None => ask_for_step()?,
    };
    let place =
        arguments.app.as_ref().map_or_else(String::new, |app| format!(" in app {}", quoted(app)));
    let described =
        arguments.description.as_ref().map_or_else(String::new, |words| format!("## {words}\n"));
    let rule = format!("{described}when key {combo}{place} => {step}\n");
    let before = fs::read_to_string(&path).unwrap_or_default();
    let blank = if before.is_empty() || before.ends_with("\n\n") { "" } else { "\n" };
    let ended = if before.is_empty() || before.ends_with('\n') { "" } else { "\n" };
    let addition = format!("{ended}{blank}{rule}");
    let line = (format!("{before}{addition}").lines().count()) as u64;
    if !is_sound(&path, &before, &addition) {
        complain!("nothing was written to {}", path.display());
        return Ok(Status::Found);
    }
    // Output of the running session is received from before the change.
    let listening = listen(&path)?;
    append(&path, &addition)?;
    say!("written to {}, line {line}:\n\n{rule}", path.display());
    if captured.held && listening.is_none() {
        complain!(
            "{}warning{0:#}: another program has {combo} now; `lantern capture` says more",
            style::WARNING
        );
    }
    match listening {
        None => {
            complain!("`lantern run {}` puts it to work", path.display());
            Ok(Status::Done)
        }
        Some(reader) => wait_for_try(reader, &combo, line),
    }
}

/// The person's own file, made if it is not there yet.
fn own_file() -> Result<PathBuf, Failure> {
    let folder = home_folder("XDG_CONFIG_HOME", ".config").unwrap_or_default().join("cold-lantern");
    let path = folder.join("main.lantern");
    let failed = |source| Failure::Write { path: path.clone(), source };
    fs::create_dir_all(&folder).map_err(failed)?;
    match OpenOptions::new().write(true).create_new(true).open(&path) {
        Ok(mut file) => writeln!(file, "language 1").map_err(failed)?,
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
        Err(source) => return Err(failed(source)),
    }
    Ok(path)
}

/// The step that the arguments name.
fn step_of(arguments: &AddArguments) -> Option<String> {
    let text = arguments.text.as_ref().map(|text| format!("type {}", quoted(text)));
    let program = arguments.launch.as_ref().map(|program| format!("launch {}", quoted(program)));
    let target = arguments.open.as_ref().map(|target| format!("open {}", quoted(target)));
    let combo = arguments.tap.as_ref().map(|combo| format!("tap {combo}"));
    text.or(program).or(target).or(combo)
}

/// What the key does, asked at the terminal.
fn ask_for_step() -> Result<String, Failure> {
    let failed = |source| Failure::System { what: "cannot read your answer", source };
    if !io::stdin().is_terminal() {
        return Err(Failure::WrongWords {
            message: "nothing says what the key does".to_owned(),
            advice: "add --type TEXT, --launch PROGRAM, --open TARGET or --tap COMBINATION"
                .to_owned(),
        });
    }
    let ask = |question: &str| -> Result<String, Failure> {
        let mut answer = String::new();
        complain!("{question}");
        io::stdin().lock().read_line(&mut answer).map_err(failed)?;
        Ok(answer.trim().to_owned())
    };
    let kind = ask(
        "what does it do?  t types a text, l launches a program, o opens a file or address, k presses keys",
    )?;
    let word = kind.chars().next().map(|character| character.to_ascii_lowercase());
    Ok(match word {
        Some('t') => format!("type {}", quoted(&ask("the text:")?)),
        Some('l') => format!("launch {}", quoted(&ask("the program, or the name of its entry:")?)),
        Some('o') => format!("open {}", quoted(&ask("the file, folder or address:")?)),
        Some('k') => format!("tap {}", ask("the keys, such as ctrl+shift+e, enter:")?),
        _ => {
            return Err(Failure::WrongWords {
                message: format!("`{kind}` is none of t, l, o and k"),
                advice: "nothing was written; start again".to_owned(),
            });
        }
    })
}

/// Whether the file can run with the addition; findings about the addition are printed.
fn is_sound(path: &Path, before: &str, addition: &str) -> bool {
    let (source, checked) = files::check_text(path, &format!("{before}{addition}"));
    let fresh = |finding: &&lantern_script::Finding| finding.span.end as usize > before.len();
    let told: Vec<_> = checked.findings.iter().filter(fresh).cloned().collect();
    print_findings(&told, &source);
    if checked.rules.is_none() && told.is_empty() {
        complain!(
            "{}{} is broken already{0:#}: `lantern check` says where",
            style::ERROR,
            path.display()
        );
    }
    let taken = told.iter().any(|finding| finding.code == Code::TakenTwice);
    checked.rules.is_some() && !taken
}

fn append(path: &Path, addition: &str) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: path.to_owned(), source };
    let mut file = OpenOptions::new().append(true).create(true).open(path).map_err(failed)?;
    file.write_all(addition.as_bytes()).map_err(failed)
}

/// What the one that runs this very file decides from now on; nothing if none does.
fn listen(path: &Path) -> Result<Option<BufReader<UnixStream>>, Failure> {
    let Ok(mut client) = IpcClient::reach() else { return Ok(None) };
    let runs = client.ask("status", &Value::Null)?["file"].as_str().map(PathBuf::from);
    if runs != path.canonicalize().ok() {
        return Ok(None);
    }
    client.ask("watch", &json!({}))?;
    let reader = client.into_listening()?;
    let failed = |source| Failure::System { what: "cannot listen", source };
    reader.get_ref().set_read_timeout(Some(TRYING)).map_err(failed)?;
    Ok(Some(reader))
}

/// The rule works when it has fired once.
fn wait_for_try(reader: BufReader<UnixStream>, combo: &str, line: u64) -> Result<Status, Failure> {
    // Saving it has it read as well, a moment later.
    IpcClient::reach()?.ask("reload", &Value::Null)?;
    complain!("it is at work: press {combo} to try it");
    let place = format!(":{line}");
    for told in reader.lines().map_while(Result::ok) {
        let Ok(message) = serde_json::from_str::<Value>(&told) else { continue };
        let decided = &message["params"];
        if decided["place"].as_str().is_some_and(|at| at.ends_with(&place)) {
            let fired = decided["kind"] == json!("fired");
            let ink = if fired { style::WENT_OUT } else { style::WARNING };
            say!("{ink}{}{ink:#}", decided["what"].as_str().unwrap_or_default());
            return Ok(if fired { Status::Done } else { Status::Found });
        }
    }
    complain!("it was not pressed; `lantern why {combo}` says what keeps it, should it not fire");
    Ok(Status::Found)
}

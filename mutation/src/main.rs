//! Puts small faults into a crate, one at a time, and looks whether the crate's own tests see them.
//!
//! `scripts/mutate` calls it. The faulty crate is built once, in a copy of the tree below `target`,
//! with all faults behind a switch; then the tests run once for each fault.

mod sites;

use std::collections::{BTreeMap, BTreeSet};
use std::error::Error;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, Stdio};
use std::sync::Mutex;
use std::thread;
use std::time::{Duration, Instant};

use clap::Parser;
use serde_json::Value;
use sites::{Mutator, Site, switch};

/// How many times as long as without a fault the tests may take: one that has them run for ever is seen.
const TIMES_AS_LONG: u32 = 10;
/// The least that they are given, as the machine may be busy.
const LEAST_GIVEN: Duration = Duration::from_secs(5);
/// Most times that the crate is built again without faults that do not compile.
const BUILDS: usize = 30;

#[derive(Parser)]
#[command(
    about = "Puts small faults into a crate and looks whether its own tests see them",
    after_help = "Example: scripts/mutate lantern-engine --sample 60 --seed 7"
)]
struct Arguments {
    /// The crate.
    package: String,
    /// Try only that many faults, taken at random; all of them if missing.
    #[arg(long)]
    sample: Option<usize>,
    /// What the random choice begins with.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Only faults in files whose path contains this.
    #[arg(long = "in", value_name = "PART")]
    part: Vec<String>,
    /// Tests that run only where no other has seen the fault, by parts of their names.
    #[arg(long, value_name = "PART")]
    slow: Vec<String>,
    /// Leave those tests out altogether.
    #[arg(long)]
    quick: bool,
    /// The share of faults that must be seen, in percent.
    #[arg(long, default_value_t = 0)]
    least: u32,
    /// The list of faults that no test can see, each with its reason.
    #[arg(long, default_value = "mutation/unseen.txt")]
    unseen: PathBuf,
}

type Failure = Box<dyn Error + Send + Sync>;

fn main() -> ExitCode {
    match run(&Arguments::parse()) {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::from(1),
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::from(2)
        }
    }
}

fn run(arguments: &Arguments) -> Result<bool, Failure> {
    let root = std::env::current_dir()?;
    let tree = root.join("target/mutation/tree");
    copy_tree(&root, &tree)?;
    let (sites, tests) = build(arguments, &root, &tree)?;
    let unseen = Unseen::read(&root.join(&arguments.unseen))?;
    let mut chosen: Vec<&Site> = sites
        .iter()
        .filter(|site| {
            arguments.part.is_empty() || arguments.part.iter().any(|p| site.file.contains(p))
        })
        .filter(|site| !unseen.has(&arguments.package, site, &root))
        .collect();
    let all = chosen.len();
    if let Some(count) = arguments.sample {
        fastrand::Rng::with_seed(arguments.seed).shuffle(&mut chosen);
        chosen.truncate(count);
    }
    let began = Instant::now();
    if !passes(&tests, arguments, 0, Duration::MAX)? {
        return Err("the tests fail without any fault".into());
    }
    let given = (began.elapsed() * TIMES_AS_LONG).max(LEAST_GIVEN);
    eprintln!("{}: {} of {all} faults", arguments.package, chosen.len());
    let left = Mutex::new(chosen.clone().into_iter());
    let survivors = Mutex::new(Vec::new());
    let failures = Mutex::new(Vec::new());
    thread::scope(|scope| {
        for _ in 0..thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                loop {
                    let Some(site) = left.lock().expect("no thread panics").next() else { return };
                    let done = chosen.len() - left.lock().expect("no thread panics").len();
                    if done.is_multiple_of(50) {
                        eprintln!("{done} of {}", chosen.len());
                    }
                    match passes(&tests, arguments, site.number, given) {
                        Ok(false) => {}
                        Ok(true) => survivors.lock().expect("no thread panics").push(site),
                        Err(error) => failures.lock().expect("no thread panics").push(error),
                    }
                }
            });
        }
    });
    if let Some(error) = failures.into_inner().expect("no thread panics").pop() {
        return Err(error);
    }
    let mut survivors = survivors.into_inner().expect("no thread panics");
    survivors.sort_by_key(|site| site.number);
    for site in &survivors {
        let line = line_of(&root, &arguments.package, site);
        println!("{}:{}: {} | {line}", site.file, site.line, site.change);
    }
    let seen = chosen.len() - survivors.len();
    let share = 100 * seen / chosen.len().max(1);
    println!("{}: {seen} of {} faults are seen, {share} %", arguments.package, chosen.len());
    Ok(share >= arguments.least as usize)
}

/// Copies the files that git tracks. Writes only what has changed, so that a build does little again, and
/// removes source files that are gone.
fn copy_tree(root: &Path, tree: &Path) -> Result<(), Failure> {
    let listed = Command::new("git")
        .args(["ls-files", "-z", "--cached", "--others", "--exclude-standard"])
        .current_dir(root)
        .output()?;
    let listed = String::from_utf8(listed.stdout)?;
    let mut copied = BTreeSet::new();
    for name in listed.split('\0').filter(|name| !name.is_empty()) {
        let Ok(bytes) = fs::read(root.join(name)) else { continue };
        write_changed(&tree.join(name), &bytes)?;
        copied.insert(tree.join(name));
    }
    remove_others(&tree.join("crates"), &copied)
}

/// Removes the files of a folder that are not in the list, and folders that are empty then.
fn remove_others(folder: &Path, kept: &BTreeSet<PathBuf>) -> Result<(), Failure> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            remove_others(&path, kept)?;
            // A folder with files in it stays.
            let _ = fs::remove_dir(&path);
        } else if !kept.contains(&path) {
            fs::remove_file(&path)?;
        }
    }
    Ok(())
}

fn write_changed(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    if fs::read(path).is_ok_and(|before| before == bytes) {
        return Ok(());
    }
    fs::create_dir_all(path.parent().ok_or("a file is in a folder")?)?;
    Ok(fs::write(path, bytes)?)
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) -> Result<(), Failure> {
    let mut entries: Vec<PathBuf> =
        fs::read_dir(folder)?.map(|entry| Ok(entry?.path())).collect::<Result<_, Failure>>()?;
    entries.sort();
    for path in entries {
        if path.is_dir() {
            sources(&path, found)?;
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
    Ok(())
}

/// Builds the tests of the crate with all faults in it; gives the faults that compile, and the tests.
fn build(
    arguments: &Arguments,
    root: &Path,
    tree: &Path,
) -> Result<(Vec<Site>, Vec<PathBuf>), Failure> {
    let place = Path::new("crates").join(&arguments.package);
    let mut files = Vec::new();
    sources(&root.join(&place).join("src"), &mut files)?;
    let mut left_out = BTreeSet::new();
    for _ in 0..BUILDS {
        let mut mutator = Mutator::without(left_out.clone());
        let mut texts: BTreeMap<PathBuf, String> = BTreeMap::new();
        for file in &files {
            let name = file.strip_prefix(root)?.display().to_string();
            let text = fs::read_to_string(file)?;
            let is_top = name.ends_with("src/lib.rs");
            let inner = mutator.rewrite(&name, &text)?;
            let inner = if is_top { with_switch(&inner) } else { inner };
            write_changed(&tree.join(&name), inner.as_bytes())?;
            texts.insert(tree.join(&name), inner);
        }
        write_changed(&tree.join(&place).join("src/mutation.rs"), switch().as_bytes())?;
        eprintln!("building {} with {} faults", arguments.package, mutator.sites.len());
        let output = Command::new("cargo")
            .args(["test", "--no-run", "--locked", "--message-format=json", "-p"])
            .arg(&arguments.package)
            .current_dir(tree)
            .env("CARGO_TARGET_DIR", root.join("target/mutation/build"))
            .env("RUSTFLAGS", "--cap-lints=allow")
            .output()?;
        let told = String::from_utf8(output.stdout)?;
        if output.status.success() {
            let mut sites = mutator.sites;
            sites.retain(|site| !left_out.contains(&site.number));
            return Ok((sites, executables(&told)));
        }
        let before = left_out.len();
        for (file, at) in errors(&told) {
            let text = texts.get(&tree.join(&file)).ok_or("an error is outside of the crate")?;
            left_out.extend(fault_before(text, at));
        }
        if left_out.len() == before {
            let errors = String::from_utf8_lossy(&output.stderr);
            return Err(format!("the crate does not compile:\n{errors}\n{told}").into());
        }
    }
    Err("too many faults do not compile".into())
}

/// A crate's first file with the module that answers which fault is on, behind its inner attributes.
fn with_switch(text: &str) -> String {
    let at = text.find("mod ").or(text.find("pub mod ")).unwrap_or(0);
    let at = if text[..at].ends_with("pub ") { at - 4 } else { at };
    format!("{}mod mutation; {}", &text[..at], &text[at..])
}

/// The number of the last fault that begins before a place of a text.
fn fault_before(text: &str, at: usize) -> Option<usize> {
    let marker = "mutation :: is (";
    let start = text[..at.min(text.len())].rfind(marker)? + marker.len();
    let digits: String =
        text[start..].trim_start().chars().take_while(char::is_ascii_digit).collect();
    digits.parse().ok()
}

/// Where errors are, as told by the compiler: file and byte.
fn errors(told: &str) -> Vec<(String, usize)> {
    let messages = told.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok());
    let spans = messages
        .filter(|line| line["message"]["level"] == "error")
        .flat_map(|line| line["message"]["spans"].as_array().cloned().unwrap_or_default());
    let place = |span: Value| {
        let byte = usize::try_from(span["byte_start"].as_u64()?).ok()?;
        Some((span["file_name"].as_str()?.to_owned(), byte))
    };
    spans.filter(|span| span["is_primary"] == true).filter_map(place).collect()
}

fn executables(told: &str) -> Vec<PathBuf> {
    let messages = told.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok());
    let tests = messages.filter(|line| line["profile"]["test"] == true);
    tests.filter_map(|line| line["executable"].as_str().map(PathBuf::from)).collect()
}

/// Whether all tests pass with that fault.
fn passes(
    tests: &[PathBuf],
    arguments: &Arguments,
    fault: usize,
    given: Duration,
) -> Result<bool, Failure> {
    let skipped: Vec<&str> = arguments.slow.iter().flat_map(|part| ["--skip", part]).collect();
    for test in tests {
        if !passes_with(test, &skipped, fault, given)? {
            return Ok(false);
        }
    }
    if arguments.slow.is_empty() || arguments.quick {
        return Ok(true);
    }
    let slow: Vec<&str> = arguments.slow.iter().map(String::as_str).collect();
    for test in tests {
        if !passes_with(test, &slow, fault, given)? {
            return Ok(false);
        }
    }
    Ok(true)
}

fn passes_with(
    test: &Path,
    words: &[&str],
    fault: usize,
    given: Duration,
) -> Result<bool, Failure> {
    let package = test_folder(test)?;
    let mut child = Command::new(test)
        .args(words)
        .arg("-q")
        .current_dir(package)
        .env("MUTANT", fault.to_string())
        .env("INSTA_UPDATE", "no")
        .env("INSTA_WORKSPACE_ROOT", test_tree(test)?)
        .env("RUST_BACKTRACE", "0")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()?;
    wait(&mut child, given)
}

/// The copy of the tree that a test was built in.
fn test_tree(test: &Path) -> Result<PathBuf, Failure> {
    let target = test.ancestors().find(|path| path.ends_with("target/mutation"));
    Ok(target.ok_or("a test is built below target/mutation")?.join("tree"))
}

/// The folder that cargo would run a test in, by the crate's name before its number.
fn test_folder(test: &Path) -> Result<PathBuf, Failure> {
    let tree = test_tree(test)?;
    let crates = fs::read_dir(tree.join("crates"))?.filter_map(Result::ok);
    let package = std::env::args().nth(1).unwrap_or_default();
    let found = crates.map(|entry| entry.path()).find(|path| path.ends_with(&package));
    Ok(found.unwrap_or(tree))
}

fn wait(child: &mut Child, given: Duration) -> Result<bool, Failure> {
    let began = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(status.success());
        }
        if began.elapsed() > given {
            child.kill()?;
            child.wait()?;
            return Ok(false);
        }
        thread::sleep(Duration::from_millis(5));
    }
}

fn line_of(root: &Path, _: &str, site: &Site) -> String {
    let text = fs::read_to_string(root.join(&site.file)).unwrap_or_default();
    text.lines().nth(site.line - 1).unwrap_or_default().trim().to_owned()
}

/// Faults that change nothing that anybody could see.
struct Unseen {
    /// File, change and line as written.
    known: BTreeSet<String>,
}

impl Unseen {
    /// Reads the list: lines `FILE: CHANGE | CODE`, each below a comment with the reason.
    fn read(path: &Path) -> Result<Unseen, Failure> {
        let text = fs::read_to_string(path).unwrap_or_default();
        let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
        let known = lines.filter(|line| !line.starts_with('#')).map(str::to_owned).collect();
        Ok(Unseen { known })
    }

    fn has(&self, package: &str, site: &Site, root: &Path) -> bool {
        let line = line_of(root, package, site);
        self.known.contains(&format!("{}: {} | {line}", site.file, site.change))
    }
}

//! Errands: what rules ask of programs and services, from the order to its outcome.
//!
//! What takes a moment is done on the services' threads; programs are started here, where the event
//! loop sees them end. Decides nothing.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::BorrowedFd;

use lantern_model::OutputLevel;
use lantern_model::{
    App, Command, CommandError, CommandKind, CommandResult, ConnectionState, EffectId, Event,
    KeyGrab, Listening, Refusal, RuleSet, Value,
};
#[cfg(feature = "net")]
use lantern_net::{CallAnswer, ConfiguredDevice};
use lantern_services::{JobResult, ServiceReport, Services};
use lantern_session::{Front, Launcher, Shortcut};
use lantern_speech::LastUtterance;
use lantern_speech::Loudness;
use lantern_x11::survey;
use serde::Deserialize;

use crate::guardian::OWN_PROGRAM;
use crate::question::Asked;

/// Maximum number of characters of a window's title that `lantern question number` reads.
const TITLE_TOLD: usize = 1000;

/// Everything that was sent out.
#[derive(Debug)]
pub struct CommandExecutor {
    launcher: Launcher,
    services: Services,
    front: Front,
    /// Questions on the screen, each with what may be picked.
    questions: BTreeMap<EffectId, Vec<Value>>,
    /// Numbers on the screen, the newest last.
    tallies: Vec<EffectId>,
    /// How it stands with each device that is spoken with all the time, by its name.
    links: BTreeMap<String, ConnectionState>,
}

/// What came of looking for what came back.
#[derive(Debug, Default)]
pub struct ExecutorResults {
    /// Outcomes, in order.
    pub events: Vec<Event>,
    /// How loud it is now, if that was changed.
    pub level: Option<OutputLevel>,
    /// Programs that were started, with their processes.
    pub started: Vec<(String, u32)>,
    /// Settings of the desktop that have what was asked about.
    pub owners: Vec<Shortcut>,
}

impl CommandExecutor {
    /// No command is under way.
    pub fn new() -> io::Result<CommandExecutor> {
        let services = Services::new()?;
        Ok(CommandExecutor {
            launcher: Launcher::new(services.environment().clone()),
            services,
            front: Front::default(),
            questions: BTreeMap::new(),
            tallies: Vec::new(),
            links: BTreeMap::new(),
        })
    }

    /// Another program is in front.
    pub fn see_front(&mut self, app: &App) {
        let (name, title) = (app.name().to_owned(), app.title.clone());
        self.front = Front { process: app.process, name, title };
    }

    /// Has a screen reader read out what is shown.
    pub fn announce(&mut self, text: &str) {
        self.services.announce(text);
    }

    /// Looks which settings of the desktop give these combinations to something.
    pub fn find_owners(&self, refused: &[(KeyGrab, Refusal)]) {
        let held = refused.iter().filter(|(_, why)| *why == Refusal::HeldByOther);
        let keys = held.map(|(key, _)| *key).collect();
        // Where there is no display no window manager has keys.
        let manager = || survey().ok().and_then(|survey| survey.manager).unwrap_or_default();
        self.services.find_owners(keys, manager);
    }

    /// Listens to the person for this from now on.
    pub fn listen_for(&mut self, listening: Listening) {
        self.services.listen_for(listening);
    }

    /// Speaks with exactly the devices of these rules from now on.
    pub fn set_devices(&mut self, rules: &RuleSet) -> io::Result<()> {
        self.services.environment().hide(rules.secret_variables());
        let known = |name: &String| rules.devices.iter().any(|device| device.name == *name);
        self.links.retain(|name, _| known(name));
        self.connect(rules)
    }

    #[cfg(feature = "net")]
    fn connect(&mut self, rules: &RuleSet) -> io::Result<()> {
        let devices = rules.devices.iter().enumerate().map(|(number, device)| {
            let topics = rules.topics_of(lantern_model::DeviceId(number));
            ConfiguredDevice { device: device.clone(), topics }
        });
        self.services.set_devices(devices.collect())
    }

    #[cfg(not(feature = "net"))]
    fn connect(&mut self, rules: &RuleSet) -> io::Result<()> {
        self.services.refuse_devices(rules.devices.iter().map(|device| device.name.clone()));
        Ok(())
    }

    /// How it stands with a device; nothing of one that is spoken with only when a rule asks.
    pub fn link(&self, device: &str) -> Option<&ConnectionState> {
        self.links.get(device)
    }

    /// Answers a call to a listener.
    #[cfg(feature = "net")]
    pub fn answer_call(&self, call: u64, answer: CallAnswer) {
        self.services.answer_call(call, answer);
    }

    /// The level at the microphone; none while it is closed.
    pub fn loudness(&self) -> Option<Loudness> {
        self.services.loudness()
    }

    /// What was said last.
    pub fn last_said(&self) -> Option<LastUtterance> {
        self.services.last_said()
    }

    /// Watches from now on where a text that is typed would go: into a password field, to an input method.
    pub fn watch_typing(&mut self) {
        self.services.watch_fields();
        self.services.watch_input_methods();
    }

    /// Watches from now on whether the person is there.
    pub fn watch_presence(&mut self) {
        self.services.watch_presence();
    }

    /// Sets out. An outcome that is known at once comes back; others come later.
    pub fn attempt(&mut self, effect: EffectId, command: &Command) -> Option<CommandResult> {
        if self.services.attempt(effect, command, &self.front) {
            return None;
        }
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        let first = command.arguments.first().map_or("", String::as_str);
        let line: Vec<String> = match &command.kind {
            CommandKind::Run => command.arguments.clone(),
            CommandKind::Shell => words(&["sh", "-c", first]),
            CommandKind::Tally => return self.tally(effect, command.arguments.first()),
            CommandKind::Ask => return self.question(effect, "text", first, None),
            CommandKind::Confirm => return self.question(effect, "yes-no", first, None),
            CommandKind::Pick => {
                return self.question(effect, "one", first, command.value.as_ref());
            }
            CommandKind::EndStarted(started) => {
                let ended = self.launcher.end(*started);
                return Some(if ended {
                    Ok(None)
                } else {
                    Err(CommandError::not_found("it has ended already"))
                });
            }
            other => {
                return Some(Err(CommandError::unsupported(format!(
                    "`{}`: this version does not do that here yet",
                    other.keyword()
                ))));
            }
        };
        // What is waited for ends later.
        self.launcher.run(effect, &line).err().map(|error| Err(error.into()))
    }

    /// Asks the person, by this program once more. What is asked is no argument, since every user of the
    /// machine can read those.
    fn question(
        &mut self,
        effect: EffectId,
        kind: &str,
        asked: &str,
        list: Option<&Value>,
    ) -> Option<CommandResult> {
        let list = match list {
            Some(Value::List(list)) => list.clone(),
            other => other.cloned().into_iter().collect(),
        };
        let choices = list.iter().map(Value::to_string).collect();
        let question = Asked { asked: asked.to_owned(), choices }.line();
        self.questions.insert(effect, list);
        let started = self.launcher.run_with(effect, &own_words(kind), &question);
        started.err().map(|error| Err(error.into()))
    }

    /// Numbers what is in front, or picks one of the numbers that are on the screen.
    fn tally(&mut self, effect: EffectId, number: Option<&String>) -> Option<CommandResult> {
        if let Some(number) = number {
            let told = self.tallies.last().is_some_and(|shown| self.launcher.tell(*shown, number));
            let none =
                || CommandError::not_found("no numbers are on the screen; `tally` shows them");
            return Some(if told { Ok(None) } else { Err(none()) });
        }
        let Front { process, name, title } = &self.front;
        let process = process.map_or_else(String::new, |process| process.to_string());
        let title = title.chars().take(TITLE_TOLD).collect();
        let question = Asked { asked: name.clone(), choices: vec![title, process] }.line();
        self.tallies.push(effect);
        let started = self.launcher.converse(effect, &own_words("number"), &question);
        started.err().map(|error| Err(error.into()))
    }

    /// What the person answered.
    fn answer(list: &[Value], outcome: CommandResult) -> CommandResult {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum QuestionAnswer {
            Text(String),
            Truth(bool),
            Picked(usize),
            Failed { error: String },
            Nothing,
        }
        let no_answer = || CommandError::refused("the person gave no answer");
        let Ok(Some(Value::Text(said))) = outcome else {
            return Err(no_answer());
        };
        match serde_json::from_str(&said) {
            Ok(QuestionAnswer::Text(text)) => Ok(Some(Value::Text(text))),
            Ok(QuestionAnswer::Truth(truth)) => Ok(Some(Value::Truth(truth))),
            Ok(QuestionAnswer::Picked(index)) => {
                list.get(index).cloned().map(Some).ok_or_else(no_answer)
            }
            Ok(QuestionAnswer::Failed { error }) => Err(CommandError::failed(error)),
            Ok(QuestionAnswer::Nothing) | Err(_) => Err(no_answer()),
        }
    }

    /// Programs that were started and have not ended, each with its process.
    pub fn programs(&self) -> impl Iterator<Item = (&str, u32)> {
        self.launcher.programs()
    }

    /// Ends one of them; whether it is one.
    pub fn end_process(&mut self, process: u32) -> bool {
        self.launcher.end_process(process)
    }

    /// Cancels an effect.
    pub fn abandon(&mut self, effect: EffectId) {
        self.launcher.abandon(effect);
        self.questions.remove(&effect);
        self.tallies.retain(|tally| *tally != effect);
        self.services.abandon(effect);
    }

    /// What becomes readable when something came back.
    pub fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        [self.services.descriptor()].into_iter().chain(self.launcher.descriptors())
    }

    /// The next event of a device, if any. While it is not taken, the device is not read.
    pub fn next_device_event(&mut self) -> Option<Event> {
        let event = self.services.next_device_event()?;
        if let Event::ConnectionState { device, state } = &event {
            self.links.insert(device.clone(), state.clone());
        }
        Some(event)
    }

    /// Takes in what came back.
    pub fn take_returned(&mut self) -> ExecutorResults {
        self.services.reset_descriptor();
        let mut returned =
            ExecutorResults { events: self.launcher.reap(), ..ExecutorResults::default() };
        for event in &mut returned.events {
            let Event::Outcome { effect, result } = event else { continue };
            let picks = self.tallies.extract_if(.., |tally| tally == effect).next().is_some();
            let list = self.questions.remove(effect).or(picks.then(Vec::new));
            if let Some(list) = list {
                let said = std::mem::replace(result, Ok(None));
                *result = Self::answer(&list, said);
            }
        }
        returned.events.extend(self.services.take_session_events());
        while let Some(ServiceReport { effect, result }) = self.services.next_report() {
            let result = match result {
                Ok(JobResult::Done) => Ok(None),
                Ok(JobResult::Gave(value)) => Ok(Some(value)),
                Ok(JobResult::Level(level)) => {
                    returned.level = Some(level);
                    Ok(None)
                }
                Ok(JobResult::Owners(owners)) => {
                    returned.owners.extend(owners);
                    continue;
                }
                Ok(JobResult::Runs(process)) => {
                    self.launcher.adopt(effect, process);
                    Ok(Some(Value::Number(process.into())))
                }
                Ok(JobResult::Start(start)) => match self.launcher.launch(effect, &start) {
                    Ok(process) => {
                        returned.started.push((start.name, process));
                        Ok(Some(Value::Number(process.into())))
                    }
                    Err(error) => Err(error.into()),
                },
                Err(error) => Err(error),
            };
            returned.events.push(Event::Outcome { effect, result });
        }
        returned
    }
}

/// This program once more, to ask the person something.
fn own_words(kind: &str) -> [String; 3] {
    [OWN_PROGRAM, "internal-question", kind].map(str::to_owned)
}

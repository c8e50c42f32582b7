//! Errands: what rules ask of programs and services, from the order to its outcome.
//!
//! What takes a moment is done on the services' threads; programs are started here, where the event
//! loop sees them end. Decides nothing.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::BorrowedFd;

use lantern_devices::{Done, Front, Launcher, Level, Report, Services};
use lantern_model::{App, Deed, EffectId, Event, Value, Verb};

/// What became of an errand.
pub type Outcome = Result<Option<Value>, String>;

/// Everything that was sent out.
#[derive(Debug)]
pub struct Errands {
    launcher: Launcher,
    services: Services,
    front: Front,
    /// Questions on the screen, each with what may be picked.
    questions: BTreeMap<EffectId, Vec<Value>>,
}

/// What came of looking for what came back.
#[derive(Debug, Default)]
pub struct Returned {
    /// Outcomes, in order.
    pub events: Vec<Event>,
    /// How loud it is now, if that was changed.
    pub level: Option<Level>,
    /// Programs that were started, with their processes.
    pub started: Vec<(String, u32)>,
}

impl Errands {
    /// Nobody is sent out yet.
    pub fn new() -> io::Result<Errands> {
        Ok(Errands {
            launcher: Launcher::default(),
            services: Services::new()?,
            front: Front::default(),
            questions: BTreeMap::new(),
        })
    }

    /// Another program is in front.
    pub fn see_front(&mut self, app: &App) {
        let (name, title) = (app.name().to_owned(), app.title.clone());
        self.front = Front { process: app.process, name, title };
    }

    /// Sets out. An outcome that is known at once comes back; others come later.
    pub fn attempt(&mut self, effect: EffectId, deed: &Deed) -> Option<Outcome> {
        if self.services.attempt(effect, deed, &self.front) {
            return None;
        }
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        let first = deed.words.first().map_or("", String::as_str);
        let line: Vec<String> = match &deed.verb {
            Verb::Run => deed.words.clone(),
            Verb::Shell => words(&["sh", "-c", first]),
            Verb::Ask => self.question(effect, "text", first, None),
            Verb::Confirm => self.question(effect, "yes-no", first, None),
            Verb::Pick => self.question(effect, "one", first, deed.value.as_ref()),
            Verb::EndStarted(started) => {
                let ended = self.launcher.end(*started);
                return Some(if ended { Ok(None) } else { Err("it has ended already".to_owned()) });
            }
            other => {
                return Some(Err(format!(
                    "`{}`: this version does not do that here yet",
                    other.words()
                )));
            }
        };
        // What is waited for ends later.
        self.launcher.run(effect, &line).err().map(|error| Err(error.to_string()))
    }

    /// How the person is asked: by this program once more.
    fn question(
        &mut self,
        effect: EffectId,
        kind: &str,
        asked: &str,
        list: Option<&Value>,
    ) -> Vec<String> {
        let list = match list {
            Some(Value::List(list)) => list.clone(),
            other => other.cloned().into_iter().collect(),
        };
        let own = std::env::current_exe().unwrap_or_default().display().to_string();
        let words = [&own, "question", kind, "--", asked].map(str::to_owned);
        let choices = list.iter().map(Value::to_string);
        let line = words.into_iter().chain(choices).collect();
        self.questions.insert(effect, list);
        line
    }

    /// What the person answered.
    fn answer(list: &[Value], outcome: Outcome) -> Outcome {
        let no_answer = || "the person gave no answer".to_owned();
        let Ok(Some(Value::Text(said))) = outcome else {
            return Err(no_answer());
        };
        match serde_json::from_str(&said) {
            Ok(serde_json::Value::String(text)) => Ok(Some(Value::Text(text))),
            Ok(serde_json::Value::Bool(truth)) => Ok(Some(Value::Truth(truth))),
            Ok(serde_json::Value::Number(number)) => {
                let index = number.as_u64().and_then(|index| usize::try_from(index).ok());
                let picked = index.and_then(|index| list.get(index)).cloned();
                picked.map(Some).ok_or_else(no_answer)
            }
            _ => Err(no_answer()),
        }
    }

    /// Nobody waits for that one any more.
    pub fn abandon(&mut self, effect: EffectId) {
        self.launcher.abandon(effect);
        self.questions.remove(&effect);
        self.services.abandon(effect);
    }

    /// What becomes readable when something came back.
    pub fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        [self.services.descriptor()].into_iter().chain(self.launcher.descriptors())
    }

    /// Takes in what came back.
    pub fn take_returned(&mut self) -> Returned {
        let mut returned = Returned { events: self.launcher.reap(), ..Returned::default() };
        for event in &mut returned.events {
            if let Event::Outcome { effect, result } = event
                && let Some(list) = self.questions.remove(effect)
            {
                let said = std::mem::replace(result, Ok(None));
                *result = Self::answer(&list, said);
            }
        }
        while let Some(Report { effect, result }) = self.services.next_report() {
            let result = match result {
                Ok(Done::Done) => Ok(None),
                Ok(Done::Level(level)) => {
                    returned.level = Some(level);
                    Ok(None)
                }
                Ok(Done::Runs(process)) => {
                    self.launcher.adopt(effect, process);
                    Ok(Some(Value::Number(process.into())))
                }
                Ok(Done::Start(start)) => match self.launcher.launch(effect, &start) {
                    Ok(process) => {
                        returned.started.push((start.name, process));
                        Ok(Some(Value::Number(process.into())))
                    }
                    Err(error) => Err(error.to_string()),
                },
                Err(line) => Err(line),
            };
            returned.events.push(Event::Outcome { effect, result });
        }
        returned
    }
}

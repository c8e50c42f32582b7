//! Connections to devices of the rules: serial ports, web interfaces, listeners and message brokers,
//! all on one thread.
//!
//! Each device is a task, so that one that does not answer delays no other. What a device sends becomes
//! an event; commands of rules get an outcome. A reload keeps the connections of devices whose lines
//! did not change. Decides nothing. Called by the services.

mod broker;
mod error;
mod listener;
mod mqtt;
mod mqtt_events;
mod ports;
mod secret;
mod serial;
mod web;

use std::collections::BTreeMap;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use lantern_model::{
    Command, ConnectionState, Device, DeviceId, DeviceKind, EffectId, Event, Value,
};
use tokio::runtime;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};
use tokio::task::{AbortHandle, JoinSet};

use lantern_system::EventSender;
use lantern_system::catch_in;

pub use error::LinkError;
pub use listener::{CallAnswer, CalledRule};
pub use ports::{Port, ports};
pub use serial::read_port;

/// How long a step waits for a device if it does not say.
const PATIENCE: Duration = Duration::from_secs(10);
/// How soon a device that went away is looked for again, at first and at the most.
const RETRY: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(5));

/// A device of the set in force, with what is to be heard of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConfiguredDevice {
    /// The device.
    pub device: Device,
    /// Topics that rules want to hear of, as filters.
    pub topics: Vec<String>,
}

/// What became of a deed, or the failure that kept it from being done.
type Outcome = Result<Option<Value>, LinkError>;

/// How outcomes leave the thread.
pub trait OutcomeSender: Send + Sync {
    /// A deed is done, or failed.
    fn outcome(&self, effect: EffectId, outcome: Outcome);
}

/// Deeds that have no outcome yet, on the way of all outcomes.
struct PendingRequests {
    tell: Arc<dyn OutcomeSender>,
    /// Each with its device's name.
    commands: Mutex<BTreeMap<EffectId, String>>,
}

impl PendingRequests {
    fn commands(&self) -> MutexGuard<'_, BTreeMap<EffectId, String>> {
        self.commands.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Fails what was asked of a device whose task has ended.
    fn fail_all(&self, device: &str) {
        let mut lost = Vec::new();
        self.commands().retain(|effect, of| {
            let is_its = of == device;
            lost.extend(is_its.then_some(*effect));
            !is_its
        });
        for effect in lost {
            let fault = "its task has ended".to_owned();
            self.tell.outcome(effect, Err(LinkError::Fault(fault)));
        }
    }
}

impl OutcomeSender for PendingRequests {
    fn outcome(&self, effect: EffectId, outcome: Outcome) {
        self.commands().remove(&effect);
        self.tell.outcome(effect, outcome);
    }
}

/// What a task of a device has: its name, whom it tells, and how it last said to stand with the device.
#[derive(Clone)]
struct TaskContext {
    device: Arc<str>,
    tell: Arc<dyn OutcomeSender>,
    events: EventSender,
    said: Arc<Mutex<Option<ConnectionState>>>,
}

impl TaskContext {
    /// Reports the state of the connection, if it changed. Waits while the event loop has much to read.
    async fn say(&self, state: ConnectionState) {
        let is_known = {
            let mut said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
            said.replace(state.clone()).as_ref() == Some(&state)
        };
        if !is_known {
            self.events
                .send(Event::ConnectionState { device: self.device.to_string(), state })
                .await;
        }
    }
}

/// A deed on its way to a device.
#[derive(Debug)]
struct DeviceRequest {
    effect: EffectId,
    command: Command,
}

impl DeviceRequest {
    fn word(&self, at: usize) -> &str {
        self.command.arguments.get(at).map_or("", String::as_str)
    }

    /// What it gives, within its time.
    async fn within(&self, work: impl Future<Output = Outcome>) -> Outcome {
        let limit = self.command.timeout.unwrap_or(PATIENCE);
        tokio::time::timeout(limit, work).await.unwrap_or(Err(LinkError::Silent { limit }))
    }
}

/// A command to the thread.
enum ConnectionCommand {
    /// These are the devices from now on, in the order of the set.
    Devices(Vec<ConfiguredDevice>),
    /// Do this with that device.
    Attempt(DeviceId, DeviceRequest),
    /// The outcome is no longer needed.
    Abandon(EffectId),
    /// What came of somebody's call.
    CallAnswer(u64, CallAnswer),
}

/// The thread of all links. It ends with this.
#[derive(Debug)]
pub struct ConnectionThread {
    calls: UnboundedSender<ConnectionCommand>,
}

impl ConnectionThread {
    /// Starts the thread; it has no devices yet.
    pub fn start(
        tell: Arc<dyn OutcomeSender>,
        events: EventSender,
    ) -> std::io::Result<ConnectionThread> {
        let runtime = runtime::Builder::new_current_thread().enable_all().build()?;
        let (calls, coming) = unbounded_channel();
        thread::spawn(move || runtime.block_on(ConnectionManager::new(tell, events).work(coming)));
        Ok(ConnectionThread { calls })
    }

    /// Speaks with exactly these devices from now on.
    pub fn set_devices(&self, devices: Vec<ConfiguredDevice>) {
        self.call(ConnectionCommand::Devices(devices));
    }

    /// Executes a command on a device and reports its outcome.
    pub fn attempt(&self, device: DeviceId, effect: EffectId, command: &Command) {
        self.call(ConnectionCommand::Attempt(
            device,
            DeviceRequest { effect, command: command.clone() },
        ));
    }

    /// What to do when the outcome is no longer needed.
    pub fn abandoning(&self, effect: EffectId) -> impl FnOnce() + Send + 'static {
        let calls = self.calls.clone();
        move || {
            let _ = calls.send(ConnectionCommand::Abandon(effect));
        }
    }

    /// Tells a caller what came of the call.
    pub fn answer(&self, call: u64, answer: CallAnswer) {
        self.call(ConnectionCommand::CallAnswer(call, answer));
    }

    fn call(&self, call: ConnectionCommand) {
        // The thread ends only after this.
        let _ = self.calls.send(call);
    }
}

/// A device at work.
struct ActiveConnection {
    linked: ConfiguredDevice,
    jobs: UnboundedSender<DeviceRequest>,
    task: AbortHandle,
}

/// The thread's own side.
struct ConnectionManager {
    tell: Arc<PendingRequests>,
    events: EventSender,
    /// By the device's name.
    at_work: BTreeMap<String, ActiveConnection>,
    /// Names in the order of the set.
    names: Vec<String>,
    tasks: JoinSet<()>,
    callers: listener::PendingCalls,
    /// Deeds under way that can be broken off.
    under_way: Arc<web::OpenRequests>,
}

impl ConnectionManager {
    fn new(tell: Arc<dyn OutcomeSender>, events: EventSender) -> ConnectionManager {
        ConnectionManager {
            tell: Arc::new(PendingRequests { tell, commands: Mutex::default() }),
            events,
            at_work: BTreeMap::new(),
            names: Vec::new(),
            tasks: JoinSet::new(),
            callers: listener::PendingCalls::default(),
            under_way: Arc::default(),
        }
    }

    async fn work(mut self, mut calls: UnboundedReceiver<ConnectionCommand>) {
        loop {
            let call = tokio::select! {
                call = calls.recv() => call,
                Some(_) = self.tasks.join_next() => {
                    self.revive();
                    continue;
                }
            };
            match call {
                None => return,
                Some(ConnectionCommand::Devices(devices)) => self.set_devices(devices).await,
                Some(ConnectionCommand::Attempt(device, job)) => self.attempt(device, job),
                Some(ConnectionCommand::Abandon(effect)) => {
                    self.tell.commands().remove(&effect);
                    self.under_way.abandon(effect);
                }
                Some(ConnectionCommand::CallAnswer(number, answer)) => {
                    self.callers.answer(number, answer)
                }
            }
        }
    }

    /// Starts the tasks of devices again that ended though their devices are wanted.
    fn revive(&mut self) {
        let is_over = |at_work: &ActiveConnection| at_work.task.is_finished();
        let over: Vec<ConfiguredDevice> = self
            .at_work
            .values()
            .filter(|at_work| is_over(at_work))
            .map(|at_work| at_work.linked.clone())
            .collect();
        for linked in over {
            let name = linked.device.name.clone();
            self.tell.fail_all(&name);
            let at_work = self.start_after(RETRY.1, linked);
            self.at_work.insert(name, at_work);
        }
    }

    /// Closes connections that are no longer wanted and opens new ones; the others stay open.
    async fn set_devices(&mut self, devices: Vec<ConfiguredDevice>) {
        let stays = |at_work: &ActiveConnection| {
            devices.iter().any(|linked| {
                linked.device.name == at_work.linked.device.name
                    && linked.device.kind == at_work.linked.device.kind
                    && linked.topics == at_work.linked.topics
            })
        };
        let known = std::mem::take(&mut self.at_work);
        let (staying, gone): (BTreeMap<_, _>, BTreeMap<_, _>) =
            known.into_iter().partition(|(_, at_work)| stays(at_work));
        self.at_work = staying;
        for at_work in gone.values() {
            at_work.task.abort();
        }
        // What they had open is free before it is opened anew.
        while !gone.values().all(|at_work| at_work.task.is_finished()) {
            if self.tasks.join_next().await.is_none() {
                break;
            }
        }
        self.names = devices.iter().map(|linked| linked.device.name.clone()).collect();
        for linked in devices {
            if !self.at_work.contains_key(&linked.device.name) {
                let name = linked.device.name.clone();
                let at_work = self.start_after(Duration::ZERO, linked);
                self.at_work.insert(name, at_work);
            }
        }
    }

    /// Starts the task of a device, which rests first.
    fn start_after(&mut self, rest: Duration, linked: ConfiguredDevice) -> ActiveConnection {
        let (jobs, coming) = unbounded_channel();
        let tell: Arc<dyn OutcomeSender> = Arc::clone(&self.tell) as _;
        let device = linked.device.name.as_str().into();
        let context =
            TaskContext { device, tell, events: self.events.clone(), said: Arc::default() };
        let of_task = context.clone();
        let work: Pin<Box<dyn Future<Output = ()> + Send>> = match linked.device.kind.clone() {
            DeviceKind::Serial { port, speed } => {
                Box::pin(serial::serve(context, port, speed, coming))
            }
            DeviceKind::Web { address, headers } => {
                let under_way = Arc::clone(&self.under_way);
                Box::pin(web::serve(context, address, headers, coming, under_way))
            }
            DeviceKind::Listener { address, callers } => {
                Box::pin(listener::serve(context, address, callers, self.callers.clone()))
            }
            DeviceKind::Broker(broker) => {
                let topics = linked.topics.clone();
                Box::pin(broker::serve(context, broker, topics, coming))
            }
        };
        let task = self.tasks.spawn(async move {
            tokio::time::sleep(rest).await;
            if let Err(fault) = catch_in(work).await {
                of_task.say(ConnectionState::Down(LinkError::Fault(fault.0).to_string())).await;
            }
        });
        ActiveConnection { linked, jobs, task }
    }

    fn attempt(&mut self, device: DeviceId, job: DeviceRequest) {
        let effect = job.effect;
        let at_work = self.names.get(device.0).and_then(|name| self.at_work.get(name));
        if let Some(at_work) = at_work {
            self.tell.commands().insert(effect, at_work.linked.device.name.clone());
        }
        if at_work.is_none_or(|at_work| at_work.jobs.send(job).is_err()) {
            self.tell.outcome(effect, Err(LinkError::Gone));
        }
    }
}

/// From one try to the next: soon at first, then less often.
#[derive(Debug)]
struct BackOff(Duration);

impl Default for BackOff {
    fn default() -> Self {
        BackOff(RETRY.0)
    }
}

impl BackOff {
    async fn rest(&mut self) {
        tokio::time::sleep(self.0).await;
        self.0 = (self.0 * 2).min(RETRY.1);
    }

    /// It is there again.
    fn reset(&mut self) {
        self.0 = RETRY.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct OutcomeReport(Mutex<Vec<(EffectId, String)>>);

    impl OutcomeSender for OutcomeReport {
        fn outcome(&self, effect: EffectId, outcome: Outcome) {
            let words = outcome.err().map(|error| error.to_string()).unwrap_or_default();
            self.0.lock().expect("no test panics with it").push((effect, words));
        }
    }

    #[test]
    fn what_was_asked_of_a_task_that_ended_fails_once() {
        let told = Arc::new(OutcomeReport::default());
        let unanswered =
            PendingRequests { tell: Arc::clone(&told) as _, commands: Mutex::default() };
        for (number, device) in [(1, "fans"), (2, "drill"), (3, "fans")] {
            unanswered.commands().insert(EffectId(number), device.to_owned());
        }
        unanswered.outcome(EffectId(3), Ok(None));
        unanswered.fail_all("fans");
        unanswered.fail_all("fans");
        let told = told.0.lock().expect("no test panics with it");
        assert_eq!(told.len(), 2, "{told:?}");
        assert_eq!(told[0], (EffectId(3), String::new()));
        assert!(told[1].0 == EffectId(1) && told[1].1.contains("its task has ended"));
    }
}

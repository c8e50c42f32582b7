//! One broker: messages out, each confirmed; messages in, each told once.
//!
//! Messages without confirmation when a connection breaks are sent again under the same number, by
//! which a receiver recognises a duplicate. Messages that the broker retained are delivered if they
//! are new.

use std::collections::{BTreeMap, VecDeque};
use std::env;
use std::os::unix::ffi::OsStrExt;
use std::sync::{Arc, Mutex, MutexGuard};

use lantern_model::{Broker, CommandKind, ConnectionState, EffectId, Event};
use reqwest::Url;
use sha2::{Digest as _, Sha256};
use tokio::sync::mpsc::UnboundedReceiver;
use tokio::time::{Duration, Instant};

use super::mqtt::{
    BrokerAddress, MqttConnection, MqttError, MqttSender, MqttVersion, PublishMessage,
};
use super::mqtt_events::{MqttEvent, ReceivedMessage};
use super::{BackOff, DeviceRequest, LinkError, PATIENCE, TaskContext, secret};

/// Number of received messages that are remembered, so that none is reported twice.
const REMEMBERED: usize = 1000;
/// Time that a connection must last until the next one is tried soon again.
const LASTS: Duration = Duration::from_secs(10);
/// Maximum number of characters of a topic in a message to the person.
const TOPIC_SHOWN: usize = 80;

/// Speaks with a broker as long as the rules have it.
pub(super) async fn serve(
    context: TaskContext,
    broker: Broker,
    topics: Vec<String>,
    jobs: UnboundedReceiver<DeviceRequest>,
) {
    let outbox = Arc::new(Mutex::new(PublishQueue::default()));
    let topics = widest(topics);
    let taking = take_jobs(context.clone(), jobs, Arc::clone(&outbox));
    let speaking = MqttClient {
        context,
        broker,
        topics,
        outbox,
        heard: SeenMessages::default(),
        version: None,
        has_begun: false,
    }
    .speak();
    // Neither breaks the other off; both end with the task.
    tokio::select! {
        () = taking => {}
        () = speaking => {}
    }
}

/// A message that is to be confirmed.
struct PendingPublish {
    /// The rule's step that waits for its confirmation, and how long; nothing waits for our own.
    awaited: Option<PublishWaiter>,
    message: PublishMessage,
    /// The packet it went out as.
    packet: Option<u16>,
    /// Whether it was handed over to the connection.
    handed: bool,
}

/// A step that waits until its message is confirmed.
#[derive(Debug, Clone, Copy)]
struct PublishWaiter {
    effect: EffectId,
    limit: Duration,
    until: Instant,
}

/// Messages that were not confirmed yet, in order.
#[derive(Default)]
struct PublishQueue {
    letters: VecDeque<PendingPublish>,
    /// Through which they go while there is a connection.
    sender: Option<MqttSender>,
    /// Why there is none.
    away: Option<String>,
    count: u64,
}

impl PublishQueue {
    fn add(&mut self, awaited: Option<PublishWaiter>, topic: &str, text: &str, retained: bool) {
        self.count += 1;
        let number = format!("{:016x}-{}", run_number(), self.count);
        let message =
            PublishMessage { topic: topic.to_owned(), text: text.to_owned(), retained, number };
        self.letters.push_back(PendingPublish { awaited, message, packet: None, handed: false });
        self.hand_over();
    }

    /// Sends queued messages, if there is room.
    fn hand_over(&mut self) {
        let Some(sender) = &self.sender else { return };
        for letter in self.letters.iter_mut().filter(|letter| !letter.handed) {
            if !sender.publish(&letter.message) {
                return;
            }
            letter.handed = true;
        }
    }

    /// The connection is a new one that knows nothing of what went out before.
    fn begin_anew(&mut self) {
        for letter in &mut self.letters {
            letter.packet = None;
            letter.handed = false;
        }
    }

    fn note_sent(&mut self, packet: u16) {
        if self.letters.iter().any(|letter| letter.packet == Some(packet)) {
            return;
        }
        let next = self.letters.iter_mut().find(|letter| letter.handed && letter.packet.is_none());
        if let Some(letter) = next {
            letter.packet = Some(packet);
        }
    }

    fn take_confirmed(&mut self, packet: u16) -> Option<EffectId> {
        let at = self.letters.iter().position(|letter| letter.packet == Some(packet))?;
        let letter = self.letters.remove(at)?;
        self.hand_over();
        letter.awaited.map(|awaited| awaited.effect)
    }

    /// When the first step that waits has waited long enough.
    fn next_limit(&self) -> Option<Instant> {
        self.letters.iter().filter_map(|letter| letter.awaited).map(|awaited| awaited.until).min()
    }

    /// Steps that have waited long enough by `now`. What was handed to the connection cannot be taken
    /// back; the rest is not sent.
    fn take_expired(&mut self, now: Instant) -> Vec<PublishWaiter> {
        let mut expired = Vec::new();
        self.letters.retain_mut(|letter| {
            let Some(awaited) = letter.awaited.filter(|awaited| awaited.until <= now) else {
                return true;
            };
            expired.push(awaited);
            letter.awaited = None;
            letter.handed
        });
        expired
    }
}

fn lock(outbox: &Mutex<PublishQueue>) -> MutexGuard<'_, PublishQueue> {
    outbox.lock().expect("no thread panics while it holds this")
}

/// Queues messages that rules publish, and fails those that waited too long.
async fn take_jobs(
    context: TaskContext,
    mut jobs: UnboundedReceiver<DeviceRequest>,
    outbox: Arc<Mutex<PublishQueue>>,
) {
    loop {
        let limit = lock(&outbox).next_limit();
        let expiry = async {
            match limit {
                Some(limit) => tokio::time::sleep_until(limit).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            job = jobs.recv() => {
                let Some(job) = job else { return };
                let retained = matches!(job.command.kind, CommandKind::Publish { retained: true, .. });
                if let Some(why) = PublishMessage::fault(job.word(0), job.word(1)) {
                    let topic = job.word(0).chars().take(TOPIC_SHOWN).collect();
                    context.tell.outcome(job.effect, Err(LinkError::BadMessage { topic, why }));
                    continue;
                }
                let limit = job.command.timeout.unwrap_or(PATIENCE);
                // A limit beyond what the clock can show is none.
                let far = Duration::from_secs(u32::MAX.into());
                let until = Instant::now() + limit.min(far);
                let awaited = PublishWaiter { effect: job.effect, limit, until };
                lock(&outbox).add(Some(awaited), job.word(0), job.word(1), retained);
            }
            () = expiry => {
                let mut outbox = lock(&outbox);
                for PublishWaiter { effect, limit, .. } in outbox.take_expired(Instant::now()) {
                    let away = outbox.away.clone().map(LinkError::Away);
                    let error = away.unwrap_or(LinkError::Silent { limit });
                    context.tell.outcome(effect, Err(error));
                }
            }
        }
    }
}

/// The side that keeps the connection.
struct MqttClient {
    context: TaskContext,
    broker: Broker,
    topics: Vec<String>,
    outbox: Arc<Mutex<PublishQueue>>,
    heard: SeenMessages,
    /// The version of the protocol in which this run has a session at the broker, once it has one.
    version: Option<MqttVersion>,
    /// Whether what keeps the connection had one before.
    has_begun: bool,
}

impl MqttClient {
    async fn speak(mut self) {
        let mut back_off = BackOff::default();
        loop {
            let error = match self.reach() {
                Ok(reach) => self.keep_connected(&reach, &mut back_off).await,
                Err(error) => error,
            };
            self.say_away(&error).await;
            back_off.rest().await;
        }
    }

    /// How the broker is reached, as the rules say.
    fn reach(&self) -> Result<BrokerAddress, LinkError> {
        let Broker { address, user, password, will, .. } = &self.broker;
        let bad = |why: String| LinkError::BadAddress { address: address.clone(), why };
        let url = Url::parse(address).map_err(|error| bad(error.to_string()))?;
        let is_secure = url.scheme() == "mqtts";
        let host = url.host_str().ok_or_else(|| bad("no host".to_owned()))?;
        let reveal = |guarded: &Option<_>| guarded.as_ref().map(secret::reveal).transpose();
        let user = match (reveal(user)?, reveal(password)?) {
            (None, None) => None,
            (user, password) => Some((user.unwrap_or_default(), password.unwrap_or_default())),
        };
        Ok(BrokerAddress {
            host: host.trim_matches(['[', ']']).to_owned(),
            port: url.port().unwrap_or(if is_secure { 8883 } else { 1883 }),
            is_secure,
            client: client_name(&self.context.device, address),
            user,
            will: will.clone(),
        })
    }

    /// Connects, and connects again with the same session, until the broker refuses us for good.
    async fn keep_connected(&mut self, reach: &BrokerAddress, back_off: &mut BackOff) -> LinkError {
        let version = match self.version {
            Some(version) => Ok(version),
            None => self.begin_session(reach).await,
        };
        let mut wire = match version.and_then(|version| MqttConnection::new(version, reach, false))
        {
            Ok(wire) => wire,
            Err(error) => return error,
        };
        self.has_begun = false;
        loop {
            let broken = self.listen(&mut wire, back_off).await;
            lock(&self.outbox).sender = None;
            if matches!(broken, MqttError::MqttVersion) {
                // Another broker is there now.
                self.version = None;
            }
            let error = self.error_of(broken);
            if matches!(error, LinkError::NotWelcome { .. }) {
                return error;
            }
            self.say_away(&error).await;
            back_off.rest().await;
        }
    }

    /// Begins a session that is new, in the newest version that the broker speaks; gives that.
    async fn begin_session(&mut self, reach: &BrokerAddress) -> Result<MqttVersion, LinkError> {
        let mut version = MqttVersion::Five;
        loop {
            match MqttConnection::new(version, reach, true)?.next().await {
                Ok(_) => return Ok(*self.version.insert(version)),
                Err(MqttError::MqttVersion | MqttError::Closed) if version == MqttVersion::Five => {
                    version = MqttVersion::Three;
                }
                Err(broken) => return Err(self.error_of(broken)),
            }
        }
    }

    fn error_of(&self, broken: MqttError) -> LinkError {
        let address = self.broker.address.clone();
        match broken {
            MqttError::Off(why) => LinkError::Unreached { address, why },
            MqttError::Closed => {
                let why = "the broker closed the connection".to_owned();
                LinkError::Unreached { address, why }
            }
            MqttError::Refused(why) => LinkError::NotWelcome { address, why },
            MqttError::MqttVersion => {
                let why = "it speaks neither MQTT 5 nor 3.1.1".to_owned();
                LinkError::NotWelcome { address, why }
            }
        }
    }

    /// Hears until the connection breaks.
    async fn listen(&mut self, wire: &mut MqttConnection, back_off: &mut BackOff) -> MqttError {
        let mut welcome: Option<Instant> = None;
        loop {
            let came = wire.next().await;
            if came.is_err() && welcome.is_some_and(|since| since.elapsed() >= LASTS) {
                back_off.reset();
            }
            match came {
                Ok(MqttEvent::Welcome { resumed }) => {
                    welcome = Some(Instant::now());
                    // What this session was to hear of, it was told in an earlier connection.
                    let knows = std::mem::replace(&mut self.has_begun, true) && resumed;
                    self.begin(wire.sender(), knows);
                    self.context.say(ConnectionState::Open).await;
                }
                Ok(MqttEvent::ReceivedMessage(said)) => {
                    if self.heard.is_new(&said) {
                        let ReceivedMessage { topic, text, .. } = said;
                        let device = self.context.device.to_string();
                        self.context.events.send(Event::Message { device, topic, text }).await;
                    }
                }
                Ok(MqttEvent::Sent(packet)) => lock(&self.outbox).note_sent(packet),
                Ok(MqttEvent::Confirmed(packet)) => {
                    let effect = lock(&self.outbox).take_confirmed(packet);
                    if let Some(effect) = effect {
                        self.context.tell.outcome(effect, Ok(None));
                    }
                }
                Ok(MqttEvent::Nothing) => {}
                // It spoke our version until then.
                Err(MqttError::MqttVersion) if welcome.is_some() => {
                    return MqttError::Off("it broke off in the middle of a message".to_owned());
                }
                Err(broken) => return broken,
            }
        }
    }

    fn begin(&self, sender: MqttSender, knows: bool) {
        let mut outbox = lock(&self.outbox);
        outbox.away = None;
        if !knows {
            sender.subscribe(&self.topics);
            outbox.begin_anew();
        }
        outbox.sender = Some(sender);
        outbox.hand_over();
        if let Some((topic, text)) = &self.broker.birth {
            outbox.add(None, topic, text, true);
        }
    }

    async fn say_away(&self, error: &LinkError) {
        let why = error.line();
        lock(&self.outbox).away = Some(why.clone());
        self.context.say(ConnectionState::Down(why)).await;
    }
}

/// Earlier messages, so that none is reported twice. Texts are kept as digests of one size.
#[derive(Default)]
struct SeenMessages {
    /// Numbers that senders gave; else packet, topic and text.
    before: VecDeque<Digest>,
    /// What was kept at a topic when we were last told.
    kept: BTreeMap<Digest, Digest>,
}

/// A SHA-256 of parts.
type Digest = [u8; 32];

fn digest(parts: &[&str]) -> Digest {
    let mut digest = Sha256::new();
    for part in parts {
        digest.update(part.len().to_le_bytes());
        digest.update(part);
    }
    digest.finalize().into()
}

impl SeenMessages {
    fn is_new(&mut self, said: &ReceivedMessage) -> bool {
        let ReceivedMessage { topic, text, retained, again, packet, number } = said;
        let (place, content) = (digest(&[topic]), digest(&[text]));
        if *retained && self.kept.get(&place) == Some(&content) {
            return false;
        }
        if *retained || self.kept.contains_key(&place) {
            if self.kept.len() == REMEMBERED && !self.kept.contains_key(&place) {
                self.kept.pop_first();
            }
            self.kept.insert(place, content);
        }
        let mark = match number {
            Some(number) => digest(&[number]),
            None => digest(&[&packet.to_string(), topic, text]),
        };
        let known = self.before.contains(&mark);
        if known && (number.is_some() || *again) {
            return false;
        }
        if self.before.len() == REMEMBERED {
            self.before.pop_front();
        }
        self.before.push_back(mark);
        true
    }
}

/// Filters without those that others of them cover, as a message that two of them fit may come twice.
fn widest(filters: Vec<String>) -> Vec<String> {
    let covered =
        |filter: &String| filters.iter().any(|other| other != filter && covers(other, filter));
    filters.iter().filter(|filter| !covered(filter)).cloned().collect()
}

/// Whether every topic that `narrow` names is one that `wide` names as well (MQTT 5.0, section 4.7).
fn covers(wide: &str, narrow: &str) -> bool {
    let mut levels = narrow.split('/');
    for wanted in wide.split('/') {
        match (wanted, levels.next()) {
            ("#", _) => return true,
            (_, None | Some("#")) => return false,
            ("+", Some(_)) => {}
            (wanted, Some(level)) if wanted == level => {}
            _ => return false,
        }
    }
    levels.next().is_none()
}

/// A number that tells this run of the program from others.
fn run_number() -> u64 {
    static NUMBER: std::sync::OnceLock<u64> = std::sync::OnceLock::new();
    *NUMBER.get_or_init(|| {
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        let nanos = since.map_or(0, |since| since.as_nanos() as u64);
        nanos ^ (u64::from(std::process::id()) << 40)
    })
}

/// The client identifier for the broker: the same at each start, another on each machine and for each
/// person and home.
fn client_name(device: &str, address: &str) -> String {
    let mut digest = Sha256::new();
    digest.update(rustix::system::uname().nodename().to_bytes());
    for part in ["XDG_RUNTIME_DIR", "HOME", "USER"] {
        digest.update(env::var_os(part).unwrap_or_default().as_bytes());
        digest.update([0]);
    }
    digest.update(device.as_bytes());
    digest.update(address.as_bytes());
    let short: String = digest.finalize()[..8].iter().map(|byte| format!("{byte:02x}")).collect();
    format!("lantern-{short}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn awaited(effect: u64, until: Instant) -> Option<PublishWaiter> {
        Some(PublishWaiter { effect: EffectId(effect), limit: Duration::from_secs(1), until })
    }

    #[test]
    fn a_confirmed_message_has_no_limit_any_more() {
        let now = Instant::now();
        let mut outbox = PublishQueue::default();
        for number in 1..=1000 {
            outbox.add(awaited(number, now + Duration::from_secs(5)), "saw", "on", false);
        }
        for (at, letter) in outbox.letters.iter_mut().enumerate() {
            (letter.handed, letter.packet) = (true, Some(at as u16 + 1));
        }
        for packet in 1..=1000 {
            let effect = outbox.take_confirmed(packet);
            assert_eq!(effect, Some(EffectId(packet.into())));
        }
        assert!(outbox.letters.is_empty() && outbox.next_limit().is_none());
    }

    #[test]
    fn what_waits_too_long_is_told_once_and_not_sent_if_it_was_not_yet() {
        let now = Instant::now();
        let mut outbox = PublishQueue::default();
        outbox.add(awaited(1, now + Duration::from_secs(2)), "saw", "on", false);
        outbox.add(awaited(2, now + Duration::from_secs(1)), "saw", "off", false);
        outbox.letters[1].handed = true;
        assert_eq!(outbox.next_limit(), Some(now + Duration::from_secs(1)));
        let expired = |outbox: &mut PublishQueue, seconds| -> Vec<u64> {
            let expired = outbox.take_expired(now + Duration::from_secs(seconds));
            expired.into_iter().map(|awaited| awaited.effect.0).collect()
        };
        assert_eq!(expired(&mut outbox, 1), [2]);
        assert_eq!((outbox.letters.len(), expired(&mut outbox, 1).len()), (2, 0));
        assert_eq!(expired(&mut outbox, 2), [1]);
        assert_eq!(outbox.letters.len(), 1, "what was handed over stays until it is confirmed");
    }

    #[test]
    fn a_message_that_no_broker_takes_is_refused() {
        let long = "x".repeat(300_000);
        for (topic, text) in
            [("t/#", ""), ("a/+/b", ""), ("", "x"), ("a\0", ""), (long.as_str(), ""), ("t", &long)]
        {
            assert!(PublishMessage::fault(topic, text).is_some(), "{:.20}", topic);
        }
        assert!(PublishMessage::fault("saw/lights", &long[..200_000]).is_none());
        assert!(PublishMessage::fault("/", "").is_none());
    }

    #[test]
    fn large_retained_messages_are_told_once_and_take_little_room() {
        let mut heard = SeenMessages::default();
        let said = |number: usize, text: &str| ReceivedMessage {
            topic: format!("core/{number}"),
            text: text.to_owned(),
            retained: true,
            again: false,
            packet: 0,
            number: None,
        };
        let long = "x".repeat(1000);
        for number in 0..REMEMBERED {
            assert!(heard.is_new(&said(number, &long)));
            assert!(!heard.is_new(&said(number, &long)));
        }
        assert!(heard.is_new(&said(7, "other")) && !heard.is_new(&said(7, "other")));
        assert!(heard.kept.len() <= REMEMBERED && heard.before.len() <= REMEMBERED);
    }

    #[test]
    fn only_the_widest_filters_are_asked_for() {
        let filters = ["saw/+", "saw/lights", "saw/#", "desks/+/state", "desks/bench/state", "+"];
        let widest = widest(filters.map(str::to_owned).to_vec());
        assert_eq!(widest, ["saw/#", "desks/+/state", "+"]);
        assert!(!covers("saw/+", "saw/#") && !covers("saw/+/a", "saw/+"));
    }
}

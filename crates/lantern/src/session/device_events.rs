//! What comes from devices, beside what rules make of it: calls are answered with the rules that ran, bytes are
//! shown to who looks.

use lantern_desk::Backend;
use lantern_devices::{CallAnswer, CalledRule};
use lantern_engine::DecisionKind;
use lantern_model::{Device, DeviceKind, Event, Rule, RuleId, Time, TriggerKind};
use serde_json::json;

use super::Session;
use crate::ipc::protocol;

impl<D: Backend> Session<'_, D> {
    /// Hands an event of a device to the engine.
    pub(super) fn take_device_news(&mut self, now: Time, event: Event) {
        match &event {
            Event::Call { .. } => return self.take_call(now, event),
            Event::Bytes { device, bytes } => self.show_bytes(device, bytes),
            _ => {}
        }
        self.engine.handle_event(now, event);
    }

    /// Handles a call to a listener: what the engine decides at once is the answer.
    fn take_call(&mut self, now: Time, event: Event) {
        let Event::Call { call: number, device, path, .. } = &event else { return };
        let number = *number;
        let mut wanting = self.wanting(device, path);
        // What was decided before has been told by then.
        let before = self.engine.last_decision();
        self.engine.handle_event(now, event);
        let mut answer = CallAnswer::default();
        for reason in self.engine.decisions_after(before) {
            let Some(rule) = reason.rule else { continue };
            match &reason.kind {
                DecisionKind::Fired { .. } => answer.ran.push(self.told(rule, None)),
                DecisionKind::Dropped(why) => answer.did_not.push(self.told(rule, Some(why))),
                _ => continue,
            }
            wanting.retain(|wanting| *wanting != rule);
        }
        let why = match self.engine.paused().1 {
            true => "everything is paused",
            false => "not now: its place, its layer, a pause or a locked screen",
        };
        answer.did_not.extend(wanting.into_iter().map(|rule| self.told(rule, Some(why))));
        self.executor.answer_call(number, answer);
    }

    /// The rules that a call on that path is for.
    fn wanting(&self, device: &str, path: &str) -> Vec<RuleId> {
        let rules = self.engine.rules();
        let is_it = |cause: &TriggerKind| match cause {
            TriggerKind::Call(id, wanted) => wanted == path && rules.devices[id.0].name == device,
            _ => false,
        };
        let wants = |rule: &Rule| rule.triggers.iter().any(|trigger| is_it(&trigger.kind));
        let wanting = rules.numbered_rules().filter(|(_, rule)| wants(rule));
        wanting.map(|(id, _)| id).collect()
    }

    /// A rule in the answer to a call.
    fn told(&self, rule: RuleId, why: Option<&str>) -> CalledRule {
        let rules = self.engine.rules();
        let Rule { place, name, label, .. } = &rules[rule];
        CalledRule {
            place: rules.show_place(*place),
            rule: name.clone().unwrap_or_else(|| label.clone()),
            why: why.map(str::to_owned),
        }
    }

    /// The device of the rules at a port, whichever of the port's names either is.
    pub(super) fn device_at(&self, port: &str) -> Option<String> {
        let real = std::fs::canonicalize(port).ok()?;
        let is_it = |device: &&Device| {
            matches!(device.kind, DeviceKind::Serial { .. })
                && std::fs::canonicalize(device.kind.address()).is_ok_and(|path| path == real)
        };
        self.engine.rules().devices.iter().find(is_it).map(|device| device.name.clone())
    }

    /// Shows bytes to who looks at the device they came from.
    pub(super) fn show_bytes(&mut self, device: &str, bytes: &[u8]) {
        let looking = self.place.ipc.device_watchers(device);
        if looking.is_empty() {
            return;
        }
        let told = json!({ "device": device, "bytes": bytes });
        let line = protocol::request(None, "came", &told);
        for client in looking {
            self.place.ipc.send(client, &line);
        }
    }
}

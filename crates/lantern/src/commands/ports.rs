//! `lantern ports`: what is plugged in, under which names, and whose it is.

use std::fs;
use std::path::{Path, PathBuf};

use lantern_model::{DeviceKind, Rule, RuleSet, TriggerKind};
use lantern_net::{Port, ports};
use serde::Serialize;

use crate::arguments::PortsArguments;
use crate::commands::print_json;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::{files, style, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct PortsReport {
    version: u32,
    ports: Vec<PortData>,
}

/// A port, or the place where a device of the rules should be.
#[derive(Serialize)]
struct PortData {
    path: PathBuf,
    /// The name by which it is found again.
    stable: Option<PathBuf>,
    there: bool,
    vendor: Option<String>,
    product: Option<String>,
    serial_number: Option<String>,
    id: Option<String>,
    allowed: bool,
    /// The device of the rules that it is.
    device: Option<String>,
    /// The rules that listen to it, as lists call them.
    rules: Vec<String>,
}

pub fn run(arguments: PortsArguments) -> Result<Status, Failure> {
    let rules = match arguments.file {
        Some(file) => Some(rules_of(Some(file))?.1),
        // Without a file of one's own nothing is missed.
        None if files::rules_path(None)?.exists() => Some(rules_of(None)?.1),
        None => None,
    };
    let found = with_devices(ports(), rules.as_ref());
    let is_empty = found.is_empty();
    if arguments.json {
        print_json(&PortsReport { version: 1, ports: found });
    } else if is_empty {
        complain!("no serial port is there; plug a board in and look again");
    } else {
        let rows: Vec<Vec<String>> = found.iter().map(row).collect();
        table::print(&["port", "what it is", "in the rules"], &rows);
        let closed = found.iter().any(|port| port.there && !port.allowed);
        if closed {
            complain!(
                "{}some may not be opened by you: `sudo usermod -aG dialout \"$USER\"`, then log in again{0:#}",
                style::WARNING
            );
        }
    }
    Ok(if is_empty { Status::Found } else { Status::Done })
}

/// The ports, each with its device, and devices whose port is no such one or not there.
fn with_devices(ports: Vec<Port>, rules: Option<&RuleSet>) -> Vec<PortData> {
    let named: Vec<(&str, &Path)> = rules
        .into_iter()
        .flat_map(|rules| &rules.devices)
        .filter_map(|device| match &device.kind {
            DeviceKind::Serial { port, .. } => Some((device.name.as_str(), Path::new(port))),
            _ => None,
        })
        .collect();
    let is_it = |port: &Path, named: &Path| {
        named == port || fs::canonicalize(named).is_ok_and(|real| real == port)
    };
    let found = ports.into_iter().map(|port| {
        let device = named.iter().find(|(_, named)| is_it(&port.path, named));
        let Port { path, stable, vendor, product, serial_number, id, allowed } = port;
        let device = device.map(|(name, _)| (*name).to_owned());
        let rules = device.as_deref().map(|device| rules_for(rules, device)).unwrap_or_default();
        let there = true;
        PortData { path, stable, there, vendor, product, serial_number, id, allowed, device, rules }
    });
    let mut all: Vec<PortData> = found.collect();
    for (name, path) in named {
        if !all.iter().any(|port| port.device.as_deref() == Some(name)) {
            let there = path.exists();
            all.push(PortData {
                path: path.to_owned(),
                stable: None,
                there,
                vendor: None,
                product: None,
                serial_number: None,
                id: None,
                allowed: there,
                device: Some(name.to_owned()),
                rules: rules_for(rules, name),
            });
        }
    }
    all
}

/// The rules that listen to a device, as lists call them.
fn rules_for(rules: Option<&RuleSet>, device: &str) -> Vec<String> {
    let Some(rules) = rules else { return Vec::new() };
    let listens = |rule: &&Rule| {
        rule.triggers.iter().any(|trigger| match trigger.kind {
            TriggerKind::Line(id, _) => rules.devices[id.0].name == device,
            _ => false,
        })
    };
    rules.rules.iter().filter(listens).map(|rule| rule.label.clone()).collect()
}

fn row(port: &PortData) -> Vec<String> {
    let name = port.stable.as_ref().unwrap_or(&port.path).display();
    let written = format!("serial \"{name}\"");
    let now = port.stable.as_ref().map(|_| format!("now {}", port.path.display()));
    let told = [port.vendor.clone(), port.product.clone(), port.id.clone(), now];
    let mut what = told.into_iter().flatten().collect::<Vec<_>>().join(", ");
    if !port.there {
        what = "not there".to_owned();
    } else if what.is_empty() {
        what = fs::canonicalize(&port.path).ok().filter(|real| *real != port.path).map_or_else(
            || "of the machine itself".to_owned(),
            |real| format!("now {}", real.display()),
        );
    }
    let rules = match port.rules.as_slice() {
        [] => String::new(),
        rules => format!(": {}", rules.join(", ")),
    };
    let device =
        port.device.as_ref().map_or("-".to_owned(), |name| format!("device {name}{rules}"));
    vec![written, what, device]
}

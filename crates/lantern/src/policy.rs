//! The policy of the machine's administrator: powers that rules of no user may use.

use std::io;
use std::path::Path;

use lantern_model::RuleSet;
use lantern_script::{Power, PowerKind, powers};
use lantern_system::read_regular_text;
use serde::Deserialize;

use crate::failure::Failure;
use crate::policy_error::PolicyError;

/// Where the policy is. No user may name another one.
const PATH: &str = "/etc/cold-lantern/policy.json";
/// Maximum size of the file in bytes.
const MOST: u64 = 1 << 16;

/// The file.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PolicyFile {
    /// Names of powers.
    forbidden: Vec<String>,
}

/// What the administrator forbids.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Policy {
    forbidden: Vec<PowerKind>,
}

impl Policy {
    /// Reads the policy of this machine. Without a file nothing is forbidden.
    ///
    /// # Errors
    /// When there is a file that cannot be read or understood: then no rules run.
    pub fn read() -> Result<Policy, Failure> {
        Policy::read_file(Path::new(PATH))
            .map_err(|source| Failure::BrokenPolicy { path: PATH.into(), source })
    }

    fn read_file(path: &Path) -> Result<Policy, PolicyError> {
        match read_regular_text(path, MOST) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Policy::default()),
            text => Policy::parse(&text?),
        }
    }

    fn parse(text: &str) -> Result<Policy, PolicyError> {
        let file: PolicyFile = serde_json::from_str(text)?;
        let kind = |name: &String| {
            let found = PowerKind::ALL.into_iter().find(|kind| kind.name() == name);
            found.ok_or_else(|| PolicyError::NoSuchPower {
                name: name.clone(),
                known: PowerKind::ALL.map(PowerKind::name).join(", "),
            })
        };
        let forbidden = file.forbidden.iter().map(kind).collect::<Result<_, _>>()?;
        Ok(Policy { forbidden })
    }

    /// The names of what is forbidden.
    pub fn names(&self) -> Vec<&'static str> {
        self.forbidden.iter().map(|kind| kind.name()).collect()
    }

    /// What a set can do of what is forbidden.
    pub fn forbidden(&self, rules: &RuleSet) -> Vec<Power> {
        if self.forbidden.is_empty() {
            return Vec::new();
        }
        powers(rules).into_iter().filter(|power| self.forbidden.contains(&power.kind)).collect()
    }

    /// Refuses rules that use a forbidden power.
    ///
    /// # Errors
    /// Names the first one with its place.
    pub fn refuse_forbidden(&self, rules: &RuleSet) -> Result<(), Failure> {
        match self.forbidden(rules).first() {
            None => Ok(()),
            Some(power) => Err(Failure::Forbidden {
                place: rules.show_place(power.place),
                power: power.kind.name(),
                what: crate::text::power_words(power),
                path: PATH.into(),
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use lantern_script::{Source, check};

    use super::*;

    fn rules(text: &str) -> RuleSet {
        check(&Source::new("bench.lantern", text)).rules.expect("the rules are right")
    }

    #[test]
    fn a_forbidden_power_is_named_with_its_place() {
        let policy = Policy::parse(r#"{ "forbidden": ["uses-shell", "connects"] }"#);
        let policy = policy.expect("it is one");
        let allowed = rules("when key f9 => type \"12\"\n");
        assert!(policy.refuse_forbidden(&allowed).is_ok());
        let forbidden = rules("when key f9 => type \"12\"\nwhen key f8 => shell \"date\"\n");
        let refused = policy.refuse_forbidden(&forbidden).expect_err("it uses the shell");
        let words = refused.to_string();
        assert!(words.contains("bench.lantern:2") && words.contains("uses-shell"), "{words}");
        assert!(Policy::default().refuse_forbidden(&forbidden).is_ok());
    }

    #[test]
    fn a_policy_that_cannot_be_understood_is_no_policy() {
        for text in ["", "{}", r#"{ "forbidden": ["shell"] }"#, r#"{ "forbiden": [] }"#] {
            assert!(Policy::parse(text).is_err(), "{text}");
        }
        let error =
            Policy::parse(r#"{ "forbidden": ["shell"] }"#).expect_err("it has no such power");
        assert!(error.to_string().contains("uses-shell"), "{error}");
    }

    #[test]
    fn powers_have_different_names() {
        let mut names = PowerKind::ALL.map(PowerKind::name);
        names.sort_unstable();
        assert!(names.windows(2).all(|pair| pair[0] != pair[1]));
    }
}

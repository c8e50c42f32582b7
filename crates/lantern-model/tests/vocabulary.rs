//! Every row of the vocabulary of keys, and what layouts make of it.

use std::collections::BTreeSet;

use lantern_model::{
    Key, KeyCombination, KeyKind, KeySetError, KeySpec, Layout, Modifier, ModifierKey, ShiftLevel,
    Time, Value,
};

#[test]
fn every_row_comes_back_by_each_of_its_names() {
    for key in Key::all() {
        assert_eq!(Key::named(key.name()), Some(key));
        if let Some(code) = key.code() {
            assert_eq!(Key::from_code(code), Some(key), "{key}");
        }
        if let Some(kernel) = key.kernel() {
            assert_eq!(Key::from_kernel(kernel), Some(key), "{key}");
        }
        if let Some(button) = key.button() {
            assert_eq!(Key::from_button(button), Some(key), "{key}");
        }
        assert!(key.code().is_some() || key.is_pointer(), "{key} has no W3C code");
        assert!(key.keysym().is_some() || key.is_pointer(), "{key} has no keysym");
        assert!(key.kernel().is_some() || key.kind() == KeyKind::Wheel, "{key} has no kernel code");
        assert!(!key.label().is_empty(), "{key} has no label");
    }
}

#[test]
fn no_name_code_or_number_stands_twice() {
    let count = Key::all().count();
    assert_eq!(Key::all().map(Key::name).collect::<BTreeSet<_>>().len(), count);
    let codes: Vec<_> = Key::all().filter_map(Key::code).collect();
    assert_eq!(codes.iter().collect::<BTreeSet<_>>().len(), codes.len());
    let kernel: Vec<_> = Key::all().filter_map(Key::kernel).collect();
    assert_eq!(kernel.iter().collect::<BTreeSet<_>>().len(), kernel.len());
    let keysyms: Vec<_> = Key::all().filter_map(Key::keysym).collect();
    assert_eq!(keysyms.iter().collect::<BTreeSet<_>>().len(), keysyms.len());
    for name in Key::all().map(Key::name) {
        assert!(KeyKind::from_word(name).is_none(), "{name} is a key and a kind");
        assert!(Modifier::from_word(name).is_none(), "{name} is a key and a family");
        let plain = name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
        assert!(plain, "{name} is not a name of the language");
    }
}

#[test]
fn kinds_have_words_and_hold_every_key() {
    let counted: usize = KeyKind::ALL.iter().map(|kind| kind.keys().count()).sum();
    assert_eq!(counted, Key::all().count());
    for kind in KeyKind::ALL {
        assert_eq!(KeyKind::from_word(kind.word()), Some(kind));
    }
}

#[test]
fn ranges_run_within_a_kind() {
    let key = |name| Key::named(name).expect("there is one");
    let names = |from, to| -> Result<Vec<&str>, KeySetError> {
        Ok(Key::range(key(from), key(to))?.into_iter().map(Key::name).collect())
    };
    assert_eq!(names("c", "f"), Ok(vec!["c", "d", "e", "f"]));
    assert_eq!(names("3", "5"), Ok(vec!["3", "4", "5"]));
    assert_eq!(names("pad-1", "pad-3"), Ok(vec!["pad-1", "pad-2", "pad-3"]));
    assert_eq!(names("f9", "f11"), Ok(vec!["f9", "f10", "f11"]));
    assert!(matches!(names("c", "3"), Err(KeySetError::NoOrder { .. })));
    assert!(matches!(names("up", "home"), Err(KeySetError::NoOrder { .. })));
    assert!(matches!(names("pad-1", "pad-plus"), Err(KeySetError::NoOrder { .. })));
    assert!(matches!(names("f9", "f3"), Err(KeySetError::Backwards { .. })));
}

#[test]
fn the_us_board_spells_every_sign_of_ascii() {
    let layout = Layout::us();
    for character in (0x20u8..0x7f).map(char::from) {
        let (key, level) =
            layout.group().key_for(character).unwrap_or_else(|| panic!("{character}"));
        assert_eq!(layout.group().character(key, level), Some(character));
        assert!(matches!(level, ShiftLevel::Plain | ShiftLevel::Shift));
    }
    assert_eq!(layout.group().key_for('é'), None);
}

#[test]
fn combinations_become_keys_of_the_board() {
    let layout = Layout::us();
    let named = |name| KeySpec::Named(Key::named(name).expect("there is one"));
    let names = |combo: Vec<KeySpec>| -> Vec<&str> {
        let keys = layout.press_order(&KeyCombination(combo)).expect("the board has them");
        keys.into_iter().map(Key::name).collect()
    };
    assert_eq!(names(vec![KeySpec::Either(Modifier::Ctrl), named("e")]), ["left-ctrl", "e"]);
    assert_eq!(names(vec![KeySpec::Character('?')]), ["left-shift", "slash"]);
    assert_eq!(names(vec![named("left-shift"), KeySpec::Character('?')]), ["left-shift", "slash"]);
    let missing = KeyCombination(vec![KeySpec::Either(Modifier::Ctrl), KeySpec::Character('é')]);
    assert_eq!(layout.press_order(&missing), Err(KeySpec::Character('é')));
}

#[test]
fn alt_gr_is_alt_or_the_third_level() {
    assert_eq!(ModifierKey::AltGr.modifier(false), Modifier::Alt);
    assert_eq!(ModifierKey::AltGr.modifier(true), Modifier::Level3);
    for side in ModifierKey::ALL {
        assert_eq!(ModifierKey::of(side.key()), Some(side));
    }
}

#[test]
fn values_are_shown_as_they_are_written() {
    use std::time::Duration;
    let shown = [
        (Value::Number(0.1 * 3.0), "0.3"),
        (Value::Number(-2.0), "-2"),
        (Value::Share(0.07), "7%"),
        (Value::Duration(Duration::from_micros(1500)), "1.5ms"),
        (Value::Duration(Duration::from_secs(90)), "1.5min"),
        (Value::Duration(Duration::from_secs(7200)), "2h"),
        (Value::List(vec![Value::Truth(true), Value::Text("x".into())]), "true, x"),
    ];
    for (value, words) in shown {
        assert_eq!(value.to_string(), words);
    }
    assert_eq!(Time::from_micros(12_345_678).to_string(), "12.345 s");
}

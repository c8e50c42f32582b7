//! Shapes drawn while a key is held: what fires, what is given back, what is given up.

use insta::assert_snapshot;

use crate::theatre::Theatre;

const CHECK_MARK: [(f32, f32); 5] =
    [(0.0, 0.0), (20.0, 20.0), (40.0, 40.0), (60.0, 20.0), (80.0, 0.0)];
const DOWN: [(f32, f32); 4] = [(0.0, 0.0), (0.0, 20.0), (0.0, 40.0), (0.0, 60.0)];

/// A theatre in which what is armed is of no interest.
fn theatre(rules: &str) -> Theatre {
    Theatre::new(rules)
}

/// What was ordered but for arming.
fn commands(theatre: &mut Theatre) -> String {
    let script = theatre.script();
    let commands = script.lines().filter(|line| !line.contains(" arm "));
    commands.collect::<Vec<_>>().join("\n")
}

#[test]
fn a_shape_fires_when_the_key_goes_up_and_brings_where_it_was() {
    let mut theatre = theatre(
        "when gesture check-mark while holding f7 as drawn {\n\
         log \"{drawn.shape} {drawn.box.width} by {drawn.box.height}\"\n}\n",
    );
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.release("f7");
    assert_snapshot!(theatre.script(), @r#"
     0 arm f7 shift+ctrl+alt+escape and withhold all and trace
    50 name check-mark
    50 arm f7 shift+ctrl+alt+escape
    50 log "check-mark 80 by 40"
    "#);
}

#[test]
fn a_press_that_hardly_moves_is_a_press_with_its_movement() {
    let mut theatre = theatre("when gesture check-mark while holding f7 => log \"drawn\"\n");
    theatre.press("f7");
    theatre.trace(&[(10.0, 10.0), (12.0, 11.0)]);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @"    20 give back f7 as a tap along [(10, 10), (12, 11)]");
}

#[test]
fn a_press_that_lies_still_is_given_back_and_draws_no_more() {
    let mut theatre = theatre("when gesture check-mark while holding f7 => log \"drawn\"\n");
    theatre.press("f7");
    theatre.wait(600);
    theatre.trace(&CHECK_MARK);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @"   500 give back f7");
}

#[test]
fn a_drawing_that_rests_or_is_escaped_from_does_nothing() {
    let mut theatre = theatre("when gesture check-mark while holding f7 => log \"drawn\"\n");
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.wait(1500);
    theatre.release("f7");
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.press("escape");
    theatre.release("escape");
    theatre.release("f7");
    assert_eq!(commands(&mut theatre), "");
    let told = theatre.reasons().join("\n");
    assert!(
        told.contains("the pointer was still") && told.contains("escape was pressed"),
        "{told}"
    );
}

#[test]
fn keys_pressed_while_drawing_reach_the_program_and_do_not_end_it() {
    let mut theatre = theatre("when gesture check-mark while holding f7 => log \"drawn\"\n");
    theatre.press("f7");
    theatre.trace(&CHECK_MARK[..3]);
    theatre.tap("a", 5);
    theatre.trace(&CHECK_MARK[3..]);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @r#"
        30 give back a
        55 name check-mark
        55 log "drawn"
    "#);
}

#[test]
fn a_shape_of_more_strokes_is_waited_for_and_no_longer_than_needed() {
    let rules = "shape plus-sign = path \"down lift right\"\n\
                 when gesture plus-sign while holding f7 => log \"plus\"\n\
                 when gesture down while holding f7 => log \"down\"\n\
                 when gesture down while holding f8 => log \"other\"\n";
    let mut theatre = theatre(rules);
    theatre.press("f7");
    theatre.trace(&DOWN);
    theatre.release("f7");
    theatre.wait(100);
    theatre.press("f7");
    theatre.trace(&[(-30.0, 30.0), (0.0, 30.0), (30.0, 30.0)]);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @r#"
       170 name plus-sign
       170 log "plus"
    "#);
    theatre.press("f7");
    theatre.trace(&DOWN);
    theatre.release("f7");
    theatre.wait(1000);
    assert_snapshot!(commands(&mut theatre), @r#"
       660 name down
       660 log "down"
    "#);
    theatre.press("f8");
    theatre.trace(&DOWN);
    theatre.release("f8");
    assert_snapshot!(commands(&mut theatre), @r#"
      1250 name down
      1250 log "other"
    "#);
}

#[test]
fn what_is_no_shape_names_the_nearest_and_another_place_has_other_shapes() {
    let rules = "when gesture check-mark while holding f7 in app \"scanner\" => log \"scan\"\n\
                 when gesture caret while holding f7 => log \"caret\"\n";
    let mut theatre = theatre(rules);
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @"    50 name no shape");
    let told = theatre.reasons().pop().expect("it is told");
    assert!(told.contains("drawn: no shape; the nearest is caret"), "{told}");
    theatre.focus("scanner", 7);
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @r#"
       100 name check-mark
       100 log "scan"
    "#);
}

#[test]
fn without_a_trail_no_name_is_shown() {
    let mut theatre = theatre(
        "settings { trail = false }\nwhen gesture check-mark while holding f7 => log \"drawn\"\n",
    );
    theatre.press("f7");
    theatre.trace(&CHECK_MARK);
    theatre.release("f7");
    assert_snapshot!(commands(&mut theatre), @r#"    50 log "drawn""#);
}

//! Shapes drawn on a real X server, with the server's own mouse.

use crate::desktop::{A, bare};
use crate::running::{Running, arrived};
use lantern_stage::{ReceivedKey, pass_time};

/// Steps of a hand along legs, each so many times.
fn legs(legs: &[(i32, i32, usize)]) -> Vec<(i32, i32)> {
    legs.iter().flat_map(|(x, y, times)| std::iter::repeat_n((*x, *y), *times)).collect()
}

fn buttons(got: &[ReceivedKey]) -> Vec<(u8, bool)> {
    got.iter().filter(|got| got.button).map(|got| (got.detail, got.down)).collect()
}

/// How far it is from the first to the second.
fn moved(got: &[ReceivedKey]) -> (i16, i16) {
    let [from, to] = [got[0].place, got[1].place];
    (to.0 - from.0, to.1 - from.1)
}

#[test]
fn x11_a_shape_drawn_with_a_button_held_fires_its_rule() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding right-button => tap a\n";
    let running = Running::start(&display, rules);
    person.move_pointer(300, 300);
    person.press("right-button");
    person.draw(&legs(&[(3, 3, 20), (3, -3, 35)]));
    person.release("right-button");
    assert_eq!(target.expect_press(A).detail, A);
    assert_eq!(buttons(&arrived(&display, &person, &target)), [], "the button was drawn with");
    running.stop();
}

const B: u8 = 56;
const C: u8 = 54;

const CHECK_MARK: [(i32, i32, usize); 2] = [(3, 3, 20), (3, -3, 35)];

#[test]
fn x11_a_click_and_a_short_drag_that_are_no_shape_reach_the_program_as_they_were() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding right-button => tap a\n";
    let running = Running::start(&display, rules);
    person.move_pointer(300, 300);
    person.tap("right-button");
    let got = target.expect(2);
    assert_eq!(buttons(&got), [(3, true), (3, false)]);
    assert_eq!(got[0].place, got[1].place);
    person.press("right-button");
    person.draw(&legs(&[(2, 1, 4)]));
    person.release("right-button");
    let got = target.expect(2);
    assert_eq!(buttons(&got), [(3, true), (3, false)]);
    assert_eq!(moved(&got), (8, 4), "a drag of a few pixels");
    assert_eq!(buttons(&arrived(&display, &person, &target)), []);
    running.stop();
}

#[test]
fn x11_a_button_held_still_is_given_up_and_drags_where_it_went() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding right-button => tap a\n";
    let running = Running::start(&display, rules);
    person.move_pointer(300, 300);
    person.press("right-button");
    // The hand rests longer than a drawing may.
    pass_time(std::time::Duration::from_millis(700));
    person.draw(&legs(&CHECK_MARK));
    person.release("right-button");
    let got = target.expect(2);
    assert_eq!(buttons(&got), [(3, true), (3, false)], "nothing was drawn");
    assert_eq!(moved(&got), (165, -45), "all the way, as a drag");
    assert_eq!(arrived(&display, &person, &target).len(), 0, "no rule fired");
    running.stop();
}

#[test]
fn x11_a_scribble_fires_nothing_and_escape_or_rest_gives_up() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding right-button => tap a\n";
    let mut running = Running::start(&display, rules);
    person.move_pointer(300, 300);
    person.press("right-button");
    person.draw(&legs(&[(4, 0, 20), (0, 4, 20), (-4, 0, 20), (0, -4, 30)]));
    person.release("right-button");
    running.wait_for("drawn: no shape; the nearest is check-mark");
    person.press("right-button");
    person.draw(&legs(&CHECK_MARK));
    person.tap("escape");
    person.release("right-button");
    running.wait_for("a drawing given up: escape was pressed");
    person.press("right-button");
    person.draw(&legs(&CHECK_MARK));
    running.wait_for("a drawing given up: the pointer was still");
    person.release("right-button");
    assert_eq!(
        arrived(&display, &person, &target).len(),
        0,
        "neither key nor button nor escape came through"
    );
    person.tap("escape");
    assert_eq!(target.expect(2).len(), 2, "escape is the program's again");
    running.stop();
}

#[test]
fn x11_a_key_may_be_held_and_shapes_have_several_strokes() {
    let (display, mut person, target) = bare();
    let rules = "shape plus-sign = path \"down lift right\"\n\
                 shape note-it = path \"down lift tap\"\n\
                 when gesture plus-sign while holding f8 => tap a\n\
                 when gesture note-it while holding f8 => tap b\n\
                 when gesture down while holding f8 => tap c\n";
    let running = Running::start(&display, rules);
    person.move_pointer(300, 300);
    person.press("f8");
    person.draw(&legs(&[(0, 3, 40)]));
    person.release("f8");
    person.move_pointer(-60, -60);
    person.press("f8");
    person.draw(&legs(&[(3, 0, 40)]));
    person.release("f8");
    assert_eq!(target.expect_press(A).detail, A, "two strokes");
    arrived(&display, &person, &target);
    person.press("f8");
    person.draw(&legs(&[(0, 3, 40)]));
    person.release("f8");
    person.tap("f8");
    assert_eq!(target.expect_press(B).detail, B, "a stroke and a tap");
    arrived(&display, &person, &target);
    person.press("f8");
    person.draw(&legs(&[(0, 3, 40)]));
    person.release("f8");
    assert_eq!(target.expect_press(C).detail, C, "one stroke, and no more in time");
    let rest = arrived(&display, &person, &target);
    assert!(rest.iter().all(|got| got.detail == C), "{rest:?}");
    running.stop();
}

#[test]
fn x11_a_hand_goes_on_where_the_screen_ends_and_over_the_gap_between_screens() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding right-button => tap a\n\
                 when gesture corner while holding right-button => tap b\n";
    let running = Running::start(&display, rules);
    // The corner lies far below the screen: the pointer stops at its edge, the mouse does not.
    person.move_pointer(300, 700);
    person.press("right-button");
    person.draw(&legs(&[(0, 6, 50), (6, 0, 50)]));
    person.release("right-button");
    assert_eq!(target.expect_press(B).detail, B);
    arrived(&display, &person, &target);
    person.divide_screen(true);
    person.move_pointer(600, 300);
    person.press("right-button");
    person.draw(&legs(&CHECK_MARK));
    person.release("right-button");
    assert_eq!(target.expect_press(A).detail, A);
    running.stop();
}

#[test]
fn x11_a_pointer_that_a_program_puts_somewhere_draws_as_well() {
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding f8 => tap a\n";
    let running = Running::start(&display, rules);
    person.put_pointer(300, 300);
    person.press("f8");
    for step in 1..=60i16 {
        let down = if step <= 20 { 3 * step } else { 60 - 3 * (step - 20) };
        person.put_pointer(300 + 3 * step, 300 + down);
        pass_time(std::time::Duration::from_millis(2));
    }
    person.release("f8");
    assert_eq!(target.expect_press(A).detail, A);
    running.stop();
}

#[test]
fn x11_a_pointer_that_another_program_takes_and_a_window_that_goes_do_not_end_a_drawing() {
    use x11rb::connection::Connection as _;
    use x11rb::protocol::xproto::{ConnectionExt as _, EventMask, GrabMode};
    let (display, mut person, target) = bare();
    let rules = "when gesture check-mark while holding f8 => tap a\n\
                 when gesture check-mark while holding right-button => tap b\n";
    let running = Running::start(&display, rules);
    let other = display.connect();
    let root = other.setup().roots[0].root;
    person.move_pointer(300, 300);
    person.press("f8");
    person.draw(&legs(&CHECK_MARK[..1]));
    let (mode, none) = (GrabMode::ASYNC, x11rb::NONE);
    let mask = EventMask::BUTTON_PRESS;
    let grab = other.grab_pointer(false, root, mask, mode, mode, none, none, x11rb::CURRENT_TIME);
    grab.expect("it listens").reply().expect("it answers");
    person.draw(&legs(&CHECK_MARK[1..]));
    person.release("f8");
    assert_eq!(target.expect_press(A).detail, A);
    other.ungrab_pointer(x11rb::CURRENT_TIME).expect("it listens").check().expect("it may");
    arrived(&display, &person, &target);
    let window = other.generate_id().expect("it may");
    let look = x11rb::protocol::xproto::CreateWindowAux::new().override_redirect(1);
    let class = x11rb::protocol::xproto::WindowClass::INPUT_OUTPUT;
    other.create_window(0, window, root, 280, 280, 90, 90, 0, class, 0, &look).expect("it listens");
    other.map_window(window).expect("it listens").check().expect("it may");
    person.move_pointer(300, 300);
    person.press("right-button");
    person.draw(&legs(&CHECK_MARK[..1]));
    other.destroy_window(window).expect("it listens").check().expect("it may");
    person.draw(&legs(&CHECK_MARK[1..]));
    person.release("right-button");
    assert_eq!(target.expect_press(B).detail, B);
    running.stop();
}

#[test]
fn x11_drawings_are_recorded_and_tried() {
    let (display, mut person, _) = bare();
    let file = display.folder().join("hook.csv");
    let mut record = display
        .command(env!("CARGO_BIN_EXE_lantern"))
        .args(["shape", "record", "--holding", "f8", "--times", "2"])
        .arg(&file)
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("it starts");
    let mut said = std::io::BufRead::lines(std::io::BufReader::new(record.stderr.take().unwrap()));
    let first = said.next().expect("it says what to do").expect("in words");
    assert!(first.contains("hold f8 and draw, 2 times"), "{first}");
    for _ in 0..2 {
        person.move_pointer(300, 300);
        person.press("f8");
        person.draw(&legs(&[(0, 3, 40), (3, 0, 15)]));
        person.release("f8");
        said.next().expect("it counts").expect("in words");
    }
    assert!(record.wait().expect("it ends").success());
    let rules = display.folder().join("hook.lantern");
    let text = "shape hook = drawn \"hook.csv\"\nwhen gesture hook while holding f8 => tap a\n";
    std::fs::write(&rules, text).expect("it can be written");
    let words = ["shape", "try", "--rules", rules.to_str().unwrap(), file.to_str().unwrap()];
    let tried = crate::running::lantern(&display, &words);
    let table = String::from_utf8_lossy(&tried.stdout);
    assert!(tried.status.success(), "{table}");
    assert_eq!(table.matches("hook 100 %").count(), 2, "{table}");
}

//! Shapes from the outside: what a drawing is taken for, and what it is not.

use lantern_gesture::{Recognition, ShapeIndex, frame_of, strokes_of_words};
use lantern_model::{Shape, ShapeDescription, ShapeTolerance, StrokePath};
use proptest::prelude::*;

fn in_words(name: &str, path: &str, allowed: ShapeTolerance) -> Shape {
    let described = ShapeDescription::Path(path.split(' ').map(str::to_owned).collect());
    let drawings = strokes_of_words(path.split(' '));
    Shape { name: name.to_owned(), description: described, drawings, tolerance: allowed }
}

fn plain(name: &str, path: &str) -> Shape {
    in_words(name, path, ShapeTolerance::default())
}

/// Shapes of the bench, look-alikes among them.
fn bench() -> Vec<Shape> {
    [
        ("check-mark", "down-right up-right"),
        ("caret", "up-right down-right"),
        ("corner", "down right"),
        ("box-left-open", "right down left"),
        ("tray", "down turn-left right turn-left up"),
        ("ring-left", "circle-left"),
        ("ring-right", "circle-right"),
        ("zigzag", "right down-left right"),
        ("plus-sign", "down lift right"),
        ("equals", "right lift right"),
    ]
    .map(|(name, path)| plain(name, path))
    .into()
}

fn each(drawing: &[StrokePath], place: impl Fn((f32, f32)) -> (f32, f32)) -> Vec<StrokePath> {
    drawing.iter().map(|stroke| stroke.iter().map(|spot| place(*spot)).collect()).collect()
}

/// The drawing with a place every few pixels, as a mouse tells it.
fn told(drawing: &[StrokePath]) -> Vec<StrokePath> {
    let between = |pair: &[(f32, f32)]| {
        let (from, to) = (pair[0], pair[1]);
        let count = ((to.0 - from.0).hypot(to.1 - from.1) / 5.0).ceil().max(1.0) as usize;
        let share = move |step: usize| step as f32 / count as f32;
        (0..count)
            .map(move |step| {
                let share = share(step);
                (from.0 + (to.0 - from.0) * share, from.1 + (to.1 - from.1) * share)
            })
            .collect::<StrokePath>()
    };
    let of_stroke = |stroke: &StrokePath| -> StrokePath {
        stroke.windows(2).flat_map(between).chain(stroke.last().copied()).collect()
    };
    drawing.iter().map(of_stroke).collect()
}

fn verdict(shapes: &[Shape], drawing: &[StrokePath]) -> Option<String> {
    let book = ShapeIndex::new(shapes);
    match book.recognise(drawing, |_| true).verdict {
        Recognition::Is(shape) => Some(book.name(shape).to_owned()),
        _ => None,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn every_shape_is_itself_in_any_size_and_place(
        size in 0.06_f32..4.0,
        x in -2000.0_f32..2000.0,
        y in -2000.0_f32..2000.0,
        turn in -8.0_f32..8.0,
    ) {
        let shapes = bench();
        let book = ShapeIndex::new(&shapes);
        let (sine, cosine) = turn.to_radians().sin_cos();
        for (number, shape) in shapes.iter().enumerate() {
            let drawing = each(&told(&shape.drawings[0]), |(right, down)| {
                let (right, down) = (right * size, down * size);
                let turned = (right * cosine - down * sine, right * sine + down * cosine);
                ((turned.0 + x).round(), (turned.1 + y).round())
            });
            let found = book.recognise(&drawing, |_| true);
            prop_assert_eq!(found.verdict, Recognition::Is(number), "{} of {:?}", &shape.name, found);
        }
    }

    #[test]
    fn no_drawing_is_too_odd(
        drawing in prop::collection::vec(
            prop::collection::vec((any::<f32>(), any::<f32>()), 0..40), 0..12)
    ) {
        let book = ShapeIndex::new(&bench());
        let found = book.recognise(&drawing, |_| true);
        prop_assert!(found.ranked.iter().all(|ranked| ranked.shape < book.len()));
        let odd = Shape { name: "odd".to_owned(), drawings: vec![drawing], ..Shape::default() };
        ShapeIndex::new(&[odd]).alike_pairs(0.0);
    }
}

#[test]
fn the_other_way_round_and_the_mirror_count_only_where_a_shape_says_so() {
    let hook = strokes_of_words("down right".split(' ')).swap_remove(0);
    let backwards: Vec<StrokePath> =
        hook.iter().map(|stroke| stroke.iter().rev().copied().collect()).collect();
    let mirrored = each(&hook, |(x, y)| (-x, y));
    let strict = [plain("hook", "down right")];
    assert_eq!(verdict(&strict, &backwards), None);
    assert_eq!(verdict(&strict, &mirrored), None);
    let any_way = ShapeTolerance { any_direction: true, ..ShapeTolerance::default() };
    assert!(verdict(&[in_words("hook", "down right", any_way)], &backwards).is_some());
    let mirror = ShapeTolerance { mirrored: true, ..ShapeTolerance::default() };
    assert!(verdict(&[in_words("hook", "down right", mirror)], &mirrored).is_some());
}

#[test]
fn a_shape_may_be_turned_as_far_as_it_says() {
    let hook = strokes_of_words("down right".split(' ')).swap_remove(0);
    let upside_down = each(&hook, |(x, y)| (-x, -y));
    assert_eq!(verdict(&[plain("hook", "down right")], &upside_down), None);
    let turned = ShapeTolerance { max_rotation: 180.0, ..ShapeTolerance::default() };
    assert!(verdict(&[in_words("hook", "down right", turned)], &upside_down).is_some());
}

#[test]
fn strokes_in_another_order_count_where_the_way_does_not_matter() {
    let mut plus = strokes_of_words("down lift right".split(' ')).swap_remove(0);
    plus.reverse();
    let book = [plain("plus-sign", "down lift right")];
    assert_eq!(verdict(&book, &plus), None);
    let allowed = ShapeTolerance { any_direction: true, ..ShapeTolerance::default() };
    assert!(verdict(&[in_words("plus-sign", "down lift right", allowed)], &plus).is_some());
}

#[test]
fn a_scribble_a_line_and_nothing_are_no_shape() {
    let shapes = bench();
    let scribble: StrokePath = (0..=200)
        .map(|at| std::f32::consts::TAU * at as f32 / 200.0)
        .map(|angle| (90.0 * (2.0 * angle).sin() + 9.0 * angle, 120.0 * (3.0 * angle).cos()))
        .collect();
    assert_eq!(verdict(&shapes, &[scribble]), None);
    assert_eq!(verdict(&shapes, &[vec![(0.0, 0.0), (300.0, 40.0)]]), None);
    assert_eq!(verdict(&shapes, &[]), None);
    assert_eq!(frame_of(&[]), None);
}

#[test]
fn a_hand_that_varies_is_given_more_room_than_one_that_does_not() {
    let shown = |off: f32| {
        let drawing =
            |sign: f32| vec![vec![(0.0, 0.0), (sign * off, 200.0), (150.0, 200.0 + sign * off)]];
        let drawings = vec![drawing(1.0), drawing(-1.0), drawing(0.4)];
        let described = ShapeDescription::Drawn(String::new());
        Shape { name: "hook".to_owned(), description: described, drawings, ..Shape::default() }
    };
    let drawing = vec![vec![(0.0, 0.0), (40.0, 190.0), (140.0, 240.0)]];
    let score =
        |shape: Shape| ShapeIndex::new(&[shape]).recognise(&drawing, |_| true).ranked[0].score;
    assert!(score(shown(35.0)) > score(shown(2.0)));
}

#[test]
fn look_alikes_are_found_before_a_person_does() {
    let shapes = [
        plain("tray", "down turn-left right turn-left up"),
        plain("box-open", "down right up"),
        plain("caret", "up-right down-right"),
    ];
    let pairs = ShapeIndex::new(&shapes).alike_pairs(0.3);
    assert_eq!(pairs.len(), 1, "{pairs:?}");
    assert_eq!((pairs[0].first, pairs[0].second), (0, 1));
}

#[test]
fn examples_are_counted_as_a_book_holds_them() {
    for (path, any_way, mirrored) in [
        ("up", false, false),
        ("up right", true, false),
        ("up right", false, true),
        ("up lift down", true, true),
    ] {
        let shape = in_words(
            "s",
            path,
            ShapeTolerance { any_direction: any_way, mirrored, max_rotation: 15.0 },
        );
        let count = lantern_gesture::examples_of(&shape);
        assert_eq!(ShapeIndex::new(&[shape]).templates(), count, "{path}");
    }
}

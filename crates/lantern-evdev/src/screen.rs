//! How large the screen is, as the graphics driver tells without a display server.

use std::fs;

/// The size of the first screen that is plugged in, in pixels: the mode it likes best.
pub fn screen_size() -> Option<(i32, i32)> {
    let mut outputs: Vec<_> =
        fs::read_dir("/sys/class/drm").ok()?.flatten().map(|entry| entry.path()).collect();
    outputs.sort();
    let plugged = outputs.into_iter().filter(|output| {
        fs::read_to_string(output.join("status")).is_ok_and(|status| status.trim() == "connected")
    });
    plugged
        .filter_map(|output| fs::read_to_string(output.join("modes")).ok())
        .find_map(|modes| size_of(modes.lines().next()?))
}

/// `1920x1080`, perhaps with more behind it.
fn size_of(mode: &str) -> Option<(i32, i32)> {
    let (width, height) = mode.split_once('x')?;
    let height: String = height.chars().take_while(char::is_ascii_digit).collect();
    Some((width.parse().ok()?, height.parse().ok()?))
}

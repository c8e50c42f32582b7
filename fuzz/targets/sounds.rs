//! Files of sound are decoded or refused.
#![no_main]
#![allow(dead_code)]

extern crate self as lantern_system;

#[path = "../../crates/lantern-audio/src/sound_file.rs"]
mod sound_file;

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Seek};
use std::path::{Path, PathBuf};

/// Stands in for the errors of services.
#[derive(Debug)]
pub enum AudioError {
    SoundFile { path: PathBuf, source: std::io::Error },
    NotASound { path: PathBuf, source: Box<symphonia::core::errors::Error> },
}

thread_local! {
    static FILE: RefCell<Option<File>> = const { RefCell::new(None) };
}

/// Stands in for the opening of a file.
pub fn open_regular(_: &Path) -> io::Result<File> {
    FILE.with(|kept| {
        let mut kept = kept.borrow_mut();
        let file = kept.as_mut().ok_or(io::ErrorKind::NotFound)?;
        file.rewind()?;
        file.try_clone()
    })
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let path = std::env::temp_dir().join(format!("lantern-fuzz-{}", std::process::id()));
    std::fs::write(&path, bytes).expect("there is room");
    let file = File::open(&path).expect("it was written");
    let _ = std::fs::remove_file(&path);
    FILE.with(|kept| *kept.borrow_mut() = Some(file));
    for name in ["core.wav", "core.flac", "core.ogg", "core.mp3"] {
        let Ok(mut sound) = sound_file::SoundFile::open(Path::new(name)) else { continue };
        assert!(sound.channels == 1 || sound.channels == 2);
        for _ in 0..20 {
            match sound.next_samples(4096) {
                Ok(samples) if !samples.is_empty() => {
                    assert!(samples.len().is_multiple_of(usize::from(sound.channels)));
                }
                _ => break,
            }
        }
    }
});

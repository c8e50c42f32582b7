//! The speech library as its header declares it, found when the program runs.
//!
//! Owns every unsafe call of this crate: the library's functions are looked up by name once, and a
//! [`Decoder`] keeps the library loaded as long as it lives. Callers see safe methods only.

#![allow(unsafe_code)]

use std::ffi::{CStr, CString, c_char, c_int, c_void};
use std::fs::File;
use std::os::fd::IntoRawFd;
use std::ptr::{null, null_mut};
use std::sync::Arc;

use lantern_sense::Explained;
use libloading::Library;

/// What the library's functions look like (headers of version 3 of the library).
struct Functions {
    parse: unsafe extern "C" fn(
        *mut c_void,
        *const c_void,
        i32,
        *const *const c_char,
        i32,
    ) -> *mut c_void,
    free_settings: unsafe extern "C" fn(*mut c_void) -> c_int,
    known_settings: unsafe extern "C" fn() -> *const c_void,
    open: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    close: unsafe extern "C" fn(*mut c_void) -> c_int,
    set_grammar: unsafe extern "C" fn(*mut c_void, *const c_char, *const c_char) -> c_int,
    set_loop: unsafe extern "C" fn(*mut c_void, *const c_char, *const c_char) -> c_int,
    choose: unsafe extern "C" fn(*mut c_void, *const c_char) -> c_int,
    begin: unsafe extern "C" fn(*mut c_void) -> c_int,
    take: unsafe extern "C" fn(*mut c_void, *const i16, usize, c_int, c_int) -> c_int,
    take_scores: unsafe extern "C" fn(*mut c_void, *mut libc::FILE) -> c_int,
    end: unsafe extern "C" fn(*mut c_void) -> c_int,
    frames_taken: unsafe extern "C" fn(*mut c_void) -> c_int,
    first_piece: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    next_piece: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    word: unsafe extern "C" fn(*mut c_void) -> *const c_char,
    frames: unsafe extern "C" fn(*mut c_void, *mut c_int, *mut c_int),
    scores: unsafe extern "C" fn(*mut c_void, *mut i32, *mut i32, *mut i32) -> i32,
}

/// The loaded library.
pub(super) struct Speech {
    functions: Functions,
    /// Kept, as the functions live in them.
    _libraries: [Library; 2],
}

impl std::fmt::Debug for Speech {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Speech")
    }
}

impl Speech {
    /// Loads it.
    pub(super) fn load() -> Result<Arc<Speech>, libloading::Error> {
        // SAFETY: loading runs the libraries' initialisers, which set up tables of their own only.
        let (base, sphinx) =
            unsafe { (Library::new("libsphinxbase.so.3")?, Library::new("libpocketsphinx.so.3")?) };
        // SAFETY: each name has the signature that is declared above for it, as the headers of this
        // version of the library say; the pointers are kept no longer than the libraries.
        let functions = unsafe {
            Functions {
                parse: *base.get(b"cmd_ln_parse_r")?,
                free_settings: *base.get(b"cmd_ln_free_r")?,
                known_settings: *sphinx.get(b"ps_args")?,
                open: *sphinx.get(b"ps_init")?,
                close: *sphinx.get(b"ps_free")?,
                set_grammar: *sphinx.get(b"ps_set_jsgf_string")?,
                set_loop: *sphinx.get(b"ps_set_allphone_file")?,
                choose: *sphinx.get(b"ps_set_search")?,
                begin: *sphinx.get(b"ps_start_utt")?,
                take: *sphinx.get(b"ps_process_raw")?,
                take_scores: *sphinx.get(b"ps_decode_senscr")?,
                end: *sphinx.get(b"ps_end_utt")?,
                frames_taken: *sphinx.get(b"ps_get_n_frames")?,
                first_piece: *sphinx.get(b"ps_seg_iter")?,
                next_piece: *sphinx.get(b"ps_seg_next")?,
                word: *sphinx.get(b"ps_seg_word")?,
                frames: *sphinx.get(b"ps_seg_frames")?,
                scores: *sphinx.get(b"ps_seg_prob")?,
            }
        };
        Ok(Arc::new(Speech { functions, _libraries: [base, sphinx] }))
    }
}

/// A recogniser of the library.
pub(super) struct Decoder {
    speech: Arc<Speech>,
    decoder: *mut c_void,
}

// SAFETY: the library keeps no thread of its own and no state of a thread's; a decoder may be used
// from any thread, by one at a time, which `&mut self` sees to.
unsafe impl Send for Decoder {}

impl std::fmt::Debug for Decoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Decoder")
    }
}

impl Decoder {
    /// A decoder with these settings, names and values in turn; `None` if the library refuses them.
    pub(super) fn open(speech: &Arc<Speech>, settings: &[&str]) -> Option<Decoder> {
        let words: Vec<CString> = settings.iter().filter_map(|word| c_text(word)).collect();
        let pointers: Vec<*const c_char> = words.iter().map(|word| word.as_ptr()).collect();
        let count = i32::try_from(pointers.len()).ok()?;
        let functions = &speech.functions;
        // SAFETY: the texts end with zero and live until the call is over; the library copies them.
        // The settings are freed after the decoder has taken a reference of its own.
        let decoder = unsafe {
            let known = (functions.known_settings)();
            let parsed = (functions.parse)(null_mut(), known, count, pointers.as_ptr(), 0);
            if parsed.is_null() {
                return None;
            }
            let decoder = (functions.open)(parsed);
            (functions.free_settings)(parsed);
            decoder
        };
        (!decoder.is_null()).then(|| Decoder { speech: Arc::clone(speech), decoder })
    }

    /// Knows a grammar from now on; whether the library takes it.
    pub(super) fn learn(&mut self, search: Search, grammar: &str) -> bool {
        let Some(grammar) = c_text(grammar) else { return false };
        let name = search.name().as_ptr();
        // SAFETY: both texts end with zero and are copied; the decoder is open.
        unsafe { (self.speech.functions.set_grammar)(self.decoder, name, grammar.as_ptr()) == 0 }
    }

    /// Knows any sounds of the language from now on; whether the library can.
    pub(super) fn learn_sounds(&mut self) -> bool {
        let name = Search::Sounds.name().as_ptr();
        // SAFETY: without a file the library makes a loop of all sounds; the decoder is open.
        unsafe { (self.speech.functions.set_loop)(self.decoder, name, null()) == 0 }
    }

    /// How that explains this sound, 16,000 samples a second.
    pub(super) fn explain(&mut self, search: Search, sound: &[i16]) -> Vec<Explained> {
        let functions = &self.speech.functions;
        // SAFETY: the samples are read during the call only; the decoder is open and idle.
        let done = self.choose(search)
            && unsafe {
                (functions.begin)(self.decoder) == 0
                    && (functions.take)(self.decoder, sound.as_ptr(), sound.len(), 0, 1) >= 0
                    && (functions.end)(self.decoder) == 0
            };
        if done { self.pieces() } else { Vec::new() }
    }

    /// The same of a sound that a decoder of this model has been given already, by what that one wrote of
    /// it. Only for one that is never given a sound itself: the library mixes up the two.
    pub(super) fn explain_scores(&mut self, search: Search, scores: File) -> Vec<Explained> {
        let functions = &self.speech.functions;
        // SAFETY: the descriptor is open for reading and the stream's alone, which closes it; the library
        // reads it during the call only, beginning and ending the utterance itself. The decoder is open and
        // idle.
        let done = self.choose(search)
            && unsafe {
                let stream = libc::fdopen(scores.into_raw_fd(), c"rb".as_ptr());
                if stream.is_null() {
                    return Vec::new();
                }
                let frames = (functions.take_scores)(self.decoder, stream);
                libc::fclose(stream);
                frames >= 0
            };
        if done { self.pieces() } else { Vec::new() }
    }

    /// How many frames it was given last.
    pub(super) fn frames(&self) -> i32 {
        // SAFETY: the decoder is open.
        unsafe { (self.speech.functions.frames_taken)(self.decoder) }
    }

    /// Whether the decoder knows that search, which it listens by then.
    fn choose(&self, search: Search) -> bool {
        // SAFETY: the name ends with zero; the decoder is open and idle.
        unsafe { (self.speech.functions.choose)(self.decoder, search.name().as_ptr()) == 0 }
    }

    fn pieces(&mut self) -> Vec<Explained> {
        let functions = &self.speech.functions;
        let mut pieces = Vec::new();
        // SAFETY: a piece is good until the next is asked for, which frees the last one at the end;
        // its word is a text of the dictionary's, which lives as long as the decoder.
        unsafe {
            let mut piece = (functions.first_piece)(self.decoder);
            while !piece.is_null() {
                let (mut from, mut last) = (0, 0);
                (functions.frames)(piece, &mut from, &mut last);
                let (mut score, mut words, mut back) = (0, 0, 0);
                (functions.scores)(piece, &mut score, &mut words, &mut back);
                let word = (functions.word)(piece);
                if !word.is_null() {
                    pieces.push(Explained {
                        what: CStr::from_ptr(word).to_string_lossy().into_owned(),
                        from: u32::try_from(from).unwrap_or(0),
                        until: u32::try_from(last + 1).unwrap_or(0),
                        score: score.into(),
                    });
                }
                piece = (functions.next_piece)(piece);
            }
        }
        pieces
    }
}

impl Drop for Decoder {
    fn drop(&mut self) {
        // SAFETY: it was opened, and nobody uses it any more.
        unsafe { (self.speech.functions.close)(self.decoder) };
    }
}

/// What a sound is explained by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Search {
    /// The phrases that count now.
    Phrases,
    /// Talk of what the attention word names.
    Talk,
    /// Talk of what sounds like it.
    NearTalk,
    /// Any sounds of the language.
    Sounds,
}

impl Search {
    /// What it is called within a decoder.
    const fn name(self) -> &'static CStr {
        match self {
            Search::Phrases => c"phrases",
            Search::Talk => c"talk",
            Search::NearTalk => c"near-talk",
            Search::Sounds => c"sounds",
        }
    }
}

fn c_text(text: &str) -> Option<CString> {
    CString::new(text).ok()
}

//! The speech library as its header declares it, found when the program runs.
//!
//! Owns every unsafe call of this crate: the library's functions are looked up by name once, and a
//! [`Decoder`] keeps the library loaded as long as it lives. Callers see safe methods only.

#![allow(unsafe_code)]

use std::ffi::{CStr, CString, c_char, c_int, c_void};
use std::ptr::{null, null_mut};
use std::sync::Arc;

use lantern_speech::{CEPSTRUM, Cepstrum, ExplainedSpan, FRAME, Scores};
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
    settings_of: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    take_scores: unsafe extern "C" fn(*mut c_void, *mut libc::FILE) -> c_int,
    first_piece: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    next_piece: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    word: unsafe extern "C" fn(*mut c_void) -> *const c_char,
    frames: unsafe extern "C" fn(*mut c_void, *mut c_int, *mut c_int),
    scores: unsafe extern "C" fn(*mut c_void, *mut i32, *mut i32, *mut i32) -> i32,
    open_front: unsafe extern "C" fn(*mut c_void) -> *mut c_void,
    close_front: unsafe extern "C" fn(*mut c_void) -> c_int,
    begin_front: unsafe extern "C" fn(*mut c_void) -> c_int,
    cepstra: unsafe extern "C" fn(
        *mut c_void,
        *mut *const i16,
        *mut usize,
        *const *mut f32,
        *mut i32,
        *mut i32,
    ) -> c_int,
    end_front: unsafe extern "C" fn(*mut c_void, *mut f32, *mut i32) -> c_int,
}

/// The loaded library.
pub(super) struct SphinxLibrary {
    functions: Functions,
    /// Kept, as the functions live in them.
    _libraries: [Library; 2],
}

impl std::fmt::Debug for SphinxLibrary {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Speech")
    }
}

impl SphinxLibrary {
    /// Loads it.
    pub(super) fn load() -> Result<Arc<SphinxLibrary>, libloading::Error> {
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
                settings_of: *sphinx.get(b"ps_get_config")?,
                take_scores: *sphinx.get(b"ps_decode_senscr")?,
                first_piece: *sphinx.get(b"ps_seg_iter")?,
                next_piece: *sphinx.get(b"ps_seg_next")?,
                word: *sphinx.get(b"ps_seg_word")?,
                frames: *sphinx.get(b"ps_seg_frames")?,
                scores: *sphinx.get(b"ps_seg_prob")?,
                open_front: *base.get(b"fe_init_auto_r")?,
                close_front: *base.get(b"fe_free")?,
                begin_front: *base.get(b"fe_start_utt")?,
                cepstra: *base.get(b"fe_process_frames")?,
                end_front: *base.get(b"fe_end_utt")?,
            }
        };
        Ok(Arc::new(SphinxLibrary { functions, _libraries: [base, sphinx] }))
    }
}

/// A recogniser of the library.
pub(super) struct Decoder {
    speech: Arc<SphinxLibrary>,
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
    pub(super) fn open(speech: &Arc<SphinxLibrary>, settings: &[&str]) -> Option<Decoder> {
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
    pub(super) fn learn(&mut self, search: DecoderSearch, grammar: &str) -> bool {
        let Some(grammar) = c_text(grammar) else { return false };
        let name = search.name().as_ptr();
        // SAFETY: both texts end with zero and are copied; the decoder is open.
        unsafe { (self.speech.functions.set_grammar)(self.decoder, name, grammar.as_ptr()) == 0 }
    }

    /// Knows any sounds of the language from now on; whether the library can.
    pub(super) fn learn_sounds(&mut self) -> bool {
        let name = DecoderSearch::Pronunciations.name().as_ptr();
        // SAFETY: without a file the library makes a loop of all sounds; the decoder is open.
        unsafe { (self.speech.functions.set_loop)(self.decoder, name, null()) == 0 }
    }

    /// How that explains a sound, by how well the model's states fit it.
    ///
    /// The library would work those out itself, given the sound, anew for each search.
    pub(super) fn explain(&mut self, search: DecoderSearch, scores: &Scores) -> Vec<ExplainedSpan> {
        let functions = &self.speech.functions;
        let (bytes, name) = (scores.bytes(), search.name());
        // SAFETY: the name ends with zero. The stream is only read from, during the call, and the bytes live
        // longer; the library begins and ends the utterance itself. The decoder is open and idle.
        let done = unsafe {
            let stream =
                libc::fmemopen(bytes.as_ptr().cast_mut().cast(), bytes.len(), c"rb".as_ptr());
            if stream.is_null() {
                return Vec::new();
            }
            let done = (functions.choose)(self.decoder, name.as_ptr()) == 0
                && (functions.take_scores)(self.decoder, stream) >= 0;
            libc::fclose(stream);
            done
        };
        if done { self.pieces() } else { Vec::new() }
    }

    /// What the model's own settings make of a sound; `None` if the library refuses.
    pub(super) fn front(&self) -> Option<CepstraFrontEnd> {
        // SAFETY: the settings belong to the decoder, which is open; the library takes a reference of its own.
        let front = unsafe {
            let functions = &self.speech.functions;
            (functions.open_front)((functions.settings_of)(self.decoder))
        };
        (!front.is_null()).then(|| CepstraFrontEnd { speech: Arc::clone(&self.speech), front })
    }

    fn pieces(&mut self) -> Vec<ExplainedSpan> {
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
                    pieces.push(ExplainedSpan {
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
        // SAFETY: it was opened, and this is its last use.
        unsafe { (self.speech.functions.close)(self.decoder) };
    }
}

/// What makes cepstra of a sound.
pub(super) struct CepstraFrontEnd {
    speech: Arc<SphinxLibrary>,
    front: *mut c_void,
}

// SAFETY: as for a decoder.
unsafe impl Send for CepstraFrontEnd {}

impl std::fmt::Debug for CepstraFrontEnd {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Front")
    }
}

impl CepstraFrontEnd {
    /// The cepstra of a sound, 16,000 samples and at most 100 frames a second; none if the library refuses.
    pub(super) fn cepstra(&mut self, sound: &[i16]) -> Vec<Cepstrum> {
        let mut cepstra = vec![[0.0; CEPSTRUM]; sound.len() / FRAME + 2];
        let rows: Vec<*mut f32> = cepstra.iter_mut().map(|row| row.as_mut_ptr()).collect();
        let most = i32::try_from(rows.len() - 1).unwrap_or(0);
        let functions = &self.speech.functions;
        let (mut samples, mut left) = (sound.as_ptr(), sound.len());
        let (mut count, mut more) = (most, 0);
        // SAFETY: the library reads the samples during the call only. It writes at most `count` rows and one
        // more at the end, for which there is room. A row has the length of the model's cepstra, which was
        // checked against the model's files. The front is open.
        let done = unsafe {
            let cepstra = functions.cepstra;
            (functions.begin_front)(self.front) >= 0
                && cepstra(
                    self.front,
                    &mut samples,
                    &mut left,
                    rows.as_ptr(),
                    &mut count,
                    null_mut(),
                ) >= 0
                && (functions.end_front)(self.front, rows[count.clamp(0, most) as usize], &mut more)
                    >= 0
        };
        let count = if done { count.clamp(0, most) + more.clamp(0, 1) } else { 0 };
        cepstra.truncate(count as usize);
        cepstra
    }
}

impl Drop for CepstraFrontEnd {
    fn drop(&mut self) {
        // SAFETY: it was opened, and this is its last use.
        unsafe { (self.speech.functions.close_front)(self.front) };
    }
}

/// What a sound is explained by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum DecoderSearch {
    /// The phrases that count now.
    Phrases,
    /// Talk of what the attention word names.
    BackgroundTalk,
    /// Talk of what sounds like it.
    NearTalk,
    /// Any sounds of the language.
    Pronunciations,
}

impl DecoderSearch {
    /// What it is called within a decoder.
    const fn name(self) -> &'static CStr {
        match self {
            DecoderSearch::Phrases => c"phrases",
            DecoderSearch::BackgroundTalk => c"talk",
            DecoderSearch::NearTalk => c"near-talk",
            DecoderSearch::Pronunciations => c"sounds",
        }
    }
}

fn c_text(text: &str) -> Option<CString> {
    CString::new(text).ok()
}

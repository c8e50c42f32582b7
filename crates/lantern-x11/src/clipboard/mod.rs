//! The clipboard: read, and used to put a text into the program in front, after which it holds what
//! it held before, in every form it was held in.
//!
//! The content of the clipboard belongs to a program, which is asked for one form after another
//! (ICCCM, section 2). To paste, all forms are read first. Then we own the clipboard with our text
//! and press the paste keys. Once the program in front has taken the text (it deletes the property
//! it was handed), we own the clipboard with what was read. If another program copies meanwhile, it
//! keeps the clipboard.

mod keeping;
mod reading;
mod serving;

pub use keeping::keep_copied;

use std::collections::VecDeque;
use std::time::Duration;

use lantern_model::{App, CommandError, CommandResult, EffectId, Event, Key, Layout, Time, Value};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ConnectionExt as _, Property, PropertyNotifyEvent, SelectionRequestEvent,
    Window,
};

use super::connection::XConnection;
use super::windows::owner_of;
use lantern_backend::BackendError;
use lantern_backend::PasteKeys;
use lantern_backend::copied_contents::{ClipboardContents, ClipboardForm, CopiedContents};
use serving::{Delivery, SelectionOwner, TransferPiece, property_of, text_forms};

/// How long the owner of the clipboard may take for one form of what it holds.
const READING: Duration = Duration::from_millis(500);
/// How long a program may take to fetch what is pasted.
const FETCHING: Duration = Duration::from_secs(2);
/// How soon after it has read the paste keys a program asks for the text.
const ASKING: Duration = Duration::from_millis(250);
/// So often the paste keys are pressed, if they are read and ignored.
const TRIES: u8 = 3;
/// How long a program may take to notice that there is a text now, where there was none.
const NOTICING: Duration = Duration::from_millis(80);
/// What is done with the clipboard.
#[derive(Debug)]
enum ClipboardPurpose {
    Read,
    /// Put this text into the program in front.
    Paste(String),
}

/// Something that is asked of the clipboard.
#[derive(Debug)]
struct ClipboardJob {
    effect: EffectId,
    purpose: ClipboardPurpose,
    selection: Atom,
    /// Whose contents are read.
    owner: Window,
    phase: ClipboardPhase,
    until: Time,
}

#[derive(Debug)]
enum ClipboardPhase {
    /// The forms are asked for.
    Forms,
    /// One form after another is read; the first of `left` is on its way.
    Reading { left: VecDeque<Atom>, read: ClipboardContents, pieces: Option<ClipboardForm> },
    /// Our text is there, where there was none; a program that looks for one before it lets the
    /// person paste is given the time to.
    Announced { before: ClipboardContents, client: u32 },
    /// Our text is there for the program in front, and the paste keys were pressed so many times.
    Offered { before: ClipboardContents, client: u32, pressed: u8, heard: PasteReaction },
}

/// What the program in front made of the paste keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum PasteReaction {
    /// Nothing is known yet.
    Open,
    /// It has read them, and asked for nothing.
    Ignored,
    /// It asks for the text.
    Asking,
}

/// The clipboards.
#[derive(Debug, Default)]
pub(super) struct X11Clipboard {
    /// What we own.
    offer: SelectionOwner,
    /// Where what others copied is kept for them, should we die.
    copied: Option<CopiedContents>,
    job: Option<ClipboardJob>,
    waiting: VecDeque<(EffectId, ClipboardPurpose, Atom)>,
    /// Where the program in front has been handed the text, and not taken it yet.
    handed: Option<(Window, Atom)>,
    /// Outcomes that the back end has not taken yet.
    outcomes: Vec<Event>,
    /// Paste keys that the back end has to tap.
    paste_keys: Option<Vec<Key>>,
}

/// The clipboard at work: its state, and what it needs of the back end.
#[derive(Debug)]
pub(super) struct ClipboardWork<'a> {
    pub clipboard: &'a mut X11Clipboard,
    pub link: &'a XConnection,
    pub layout: &'a Layout,
    /// The program in front.
    pub front: &'a App,
    pub now: Time,
}

impl X11Clipboard {
    /// Whether the program in front may still tell that it has read the paste keys.
    pub(super) fn awaits_pong(&self) -> bool {
        let phase = self.job.as_ref().map(|job| &job.phase);
        matches!(phase, Some(ClipboardPhase::Offered { heard: PasteReaction::Open, .. }))
    }

    /// Keeps what others copied and we own, or will own again after a paste.
    fn keep(&mut self) {
        let Some(copied) = &mut self.copied else { return };
        let before = match &self.job {
            Some(ClipboardJob {
                selection,
                phase:
                    ClipboardPhase::Announced { before, .. } | ClipboardPhase::Offered { before, .. },
                ..
            }) => Some((*selection, before)),
            _ => None,
        };
        let kept = self.offer.all().map(|owned| match before {
            Some(before) if before.0 == owned.0 => before,
            _ => owned,
        });
        // What finds no room is lost only if we die as well.
        let _ = copied.keep(kept);
    }

    /// Takes the outcomes of what was asked of it.
    pub(super) fn take_outcomes(&mut self) -> Vec<Event> {
        std::mem::take(&mut self.outcomes)
    }

    /// Takes the paste keys that have to be tapped, followed by a ping.
    pub(super) fn take_paste_keys(&mut self) -> Option<Vec<Key>> {
        self.paste_keys.take()
    }

    /// Keeps in `copied` what others copied and we own, for the process that outlives this one.
    pub(super) fn keep_in(&mut self, copied: CopiedContents) {
        self.copied = Some(copied);
        // What lies there is of a display that is gone.
        self.keep();
    }

    /// When something was waited for long enough.
    pub(super) fn deadline(&self) -> Option<Time> {
        self.job.as_ref().map(|job| job.until)
    }
}

impl ClipboardWork<'_> {
    pub(super) fn read_clipboard(&mut self, effect: EffectId) -> Result<(), BackendError> {
        let selection = self.link.atoms.CLIPBOARD;
        self.clipboard.waiting.push_back((effect, ClipboardPurpose::Read, selection));
        self.next_job()
    }

    pub(super) fn paste(&mut self, effect: EffectId, text: &str) -> Result<(), BackendError> {
        let old = PasteKeys::of_program(&self.front.names) == PasteKeys::Primary;
        let selection = if old { AtomEnum::PRIMARY.into() } else { self.link.atoms.CLIPBOARD };
        self.clipboard.waiting.push_back((
            effect,
            ClipboardPurpose::Paste(text.to_owned()),
            selection,
        ));
        self.next_job()
    }

    fn next_job(&mut self) -> Result<(), BackendError> {
        if self.clipboard.job.is_some() {
            return Ok(());
        }
        let Some((effect, purpose, selection)) = self.clipboard.waiting.pop_front() else {
            return Ok(());
        };
        let phase = ClipboardPhase::Forms;
        let until = self.now + READING;
        let owner = owner_of(self.link, selection)?;
        self.clipboard.job = Some(ClipboardJob { effect, purpose, selection, owner, phase, until });
        if let Some(own) = self.clipboard.offer.owned(selection).cloned()
            && self.clipboard.offer.is_window(owner)
        {
            return self.have_read(own);
        }
        if owner == x11rb::NONE {
            return self.have_read(ClipboardContents::new());
        }
        self.ask(selection, self.link.atoms.TARGETS)
    }

    /// All that the clipboard holds is known.
    fn have_read(&mut self, contents: ClipboardContents) -> Result<(), BackendError> {
        let atoms = self.link.atoms;
        let Some(job) = &mut self.clipboard.job else { return Ok(()) };
        let text = match &job.purpose {
            ClipboardPurpose::Read => {
                let plain = |atom: Atom| contents.get(&atom).map(|form| form.bytes.clone());
                let text = plain(atoms.UTF8_STRING)
                    .map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
                    .or_else(|| {
                        let latin = plain(AtomEnum::STRING.into())?;
                        Some(latin.into_iter().map(char::from).collect())
                    });
                let text =
                    text.ok_or_else(|| CommandError::not_found("the clipboard holds no text"));
                return self.end_job(text.map(|text| Some(Value::Text(text))));
            }
            ClipboardPurpose::Paste(text) => text.clone(),
        };
        let focus = self.link.conn.get_input_focus()?.reply()?.focus;
        if focus <= 1 {
            let message = "no window has the keyboard, so that nothing can take the text";
            return self.end_job(Err(CommandError::not_found(message)));
        }
        let client = client_of(self.link, focus);
        let (selection, effect, owner) = (job.selection, job.effect, job.owner);
        if owner_of(self.link, selection)? != owner {
            // The person copied something just now: that is what must be there afterwards.
            self.clipboard.job = None;
            self.clipboard.waiting.push_front((effect, ClipboardPurpose::Paste(text), selection));
            return self.next_job();
        }
        let Some(job) = &mut self.clipboard.job else { return Ok(()) };
        let had_text = text_forms(self.link, "").keys().any(|form| contents.contains_key(form));
        job.until = self.now + NOTICING;
        job.phase = ClipboardPhase::Announced { before: contents, client };
        self.clipboard.offer.own(self.link, selection, text_forms(self.link, &text))?;
        self.clipboard.keep();
        if had_text || selection != self.link.atoms.CLIPBOARD {
            return self.press_paste();
        }
        self.link.conn.flush()?;
        Ok(())
    }

    fn press_paste(&mut self) -> Result<(), BackendError> {
        self.clipboard.handed = None;
        let Some(job) = &mut self.clipboard.job else { return Ok(()) };
        let (before, client, pressed) = match &mut job.phase {
            ClipboardPhase::Announced { before, client } => (before, *client, 0),
            ClipboardPhase::Offered { before, client, pressed, .. } => (before, *client, *pressed),
            _ => return Ok(()),
        };
        let before = std::mem::take(before);
        let heard = PasteReaction::Open;
        job.phase = ClipboardPhase::Offered { before, client, pressed: pressed + 1, heard };
        job.until = self.now + FETCHING;
        let keys = PasteKeys::of_program(&self.front.names).keys(self.layout);
        self.clipboard.paste_keys = Some(keys);
        Ok(())
    }

    /// The program in front has read the paste keys. One that does not ask for the text then did not
    /// take them for a paste, as editors do that think the clipboard empty a moment longer.
    pub(super) fn note_keys_read(&mut self, window: Window) {
        let read = client_of(self.link, window);
        if let Some(ClipboardJob {
            phase: ClipboardPhase::Offered { client, heard, .. },
            until,
            ..
        }) = &mut self.clipboard.job
            && *client == read
            && *heard == PasteReaction::Open
        {
            *heard = PasteReaction::Ignored;
            *until = self.now + ASKING;
        }
    }

    /// The job is done, or failed; what the clipboard held before is back.
    fn end_job(&mut self, result: CommandResult) -> Result<(), BackendError> {
        let Some(job) = self.clipboard.job.take() else { return Ok(()) };
        self.clipboard.handed = None;
        if let ClipboardPhase::Offered { before, .. } | ClipboardPhase::Announced { before, .. } =
            job.phase
            && self.clipboard.offer.owned(job.selection).is_some()
        {
            self.clipboard.offer.own(self.link, job.selection, before)?;
        }
        let outcome = Event::Outcome { effect: job.effect, result };
        self.clipboard.outcomes.push(outcome);
        self.link.conn.flush()?;
        self.next_job()
    }

    /// What was waited for did not come.
    pub(super) fn handle_deadline(&mut self) -> Result<(), BackendError> {
        if self.clipboard.job.as_ref().is_none_or(|job| job.until > self.now) {
            return Ok(());
        }
        if matches!(
            &self.clipboard.job,
            Some(ClipboardJob { phase: ClipboardPhase::Announced { .. }, .. })
        ) {
            return self.press_paste();
        }
        if let Some(ClipboardJob {
            phase: ClipboardPhase::Offered { pressed, heard: PasteReaction::Ignored, .. },
            ..
        }) = &self.clipboard.job
            && *pressed < TRIES
        {
            return self.press_paste();
        }
        let offered = matches!(
            &self.clipboard.job,
            Some(ClipboardJob { phase: ClipboardPhase::Offered { .. }, .. })
        );
        if offered {
            let message = format!("{} did not take the text", self.front.name());
            return self.end_job(Err(CommandError::timed_out(message)));
        }
        self.skip_form()
    }

    /// A property of a window changed: a piece came, or was taken.
    pub(super) fn handle_property(
        &mut self,
        change: &PropertyNotifyEvent,
    ) -> Result<(), BackendError> {
        let (window, property) = (change.window, change.atom);
        if change.state == Property::NEW_VALUE {
            if !self.clipboard.offer.note_time(self.link, change) {
                self.take_in_piece(change)?;
            }
            return Ok(());
        }
        if self.clipboard.handed == Some((window, property)) {
            if matches!(
                &self.clipboard.job,
                Some(ClipboardJob { phase: ClipboardPhase::Announced { .. }, .. })
            ) {
                return self.press_paste();
            }
            return self.end_job(Ok(None));
        }
        let piece = self.clipboard.offer.send_on(self.link, window, property)?;
        let Some(TransferPiece { pasted: true, last }) = piece else {
            return Ok(());
        };
        if last {
            return self.end_job(Ok(None));
        }
        if let Some(job) = &mut self.clipboard.job {
            job.until = self.now + FETCHING;
        }
        Ok(())
    }

    /// A program asks for what we own.
    pub(super) fn serve(&mut self, request: &SelectionRequestEvent) -> Result<(), BackendError> {
        let job = self.clipboard.job.as_mut().filter(|job| job.selection == request.selection);
        let phase = job.map(|job| &mut job.phase);
        let asks = client_of(self.link, request.requestor);
        let place = (request.requestor, property_of(request));
        match phase {
            Some(ClipboardPhase::Announced { client, .. }) if *client == asks => {
                let handed = self.clipboard.offer.serve(self.link, request, true)?;
                if handed == Delivery::About {
                    self.clipboard.handed = Some(place);
                }
            }
            Some(ClipboardPhase::Offered { client, heard, .. }) if *client == asks => {
                match self.clipboard.offer.serve(self.link, request, false)? {
                    Delivery::ClipboardForm => {
                        *heard = PasteReaction::Asking;
                        self.clipboard.handed = Some(place);
                    }
                    Delivery::Pieces => {
                        *heard = PasteReaction::Asking;
                        self.clipboard.offer.note_pasted(request.requestor);
                    }
                    Delivery::About | Delivery::Nothing => {}
                }
            }
            _ => {
                self.clipboard.offer.serve(self.link, request, false)?;
            }
        }
        Ok(())
    }

    /// Handles the loss of the clipboard to another program, unless it is ours again since.
    pub(super) fn lose_clipboard(&mut self, selection: Atom) -> Result<(), BackendError> {
        if self.clipboard.offer.is_window(owner_of(self.link, selection)?) {
            return Ok(());
        }
        self.clipboard.offer.lose(selection);
        self.clipboard.keep();
        let unserved = matches!(
            &self.clipboard.job,
            Some(ClipboardJob {
                selection: pasted,
                phase: ClipboardPhase::Announced { .. } | ClipboardPhase::Offered { .. },
                ..
            }) if *pasted == selection
        );
        if unserved && self.clipboard.handed.is_none() && !self.clipboard.offer.is_sending() {
            let message = "something was copied just then, and stays in the clipboard";
            return self.end_job(Err(CommandError::refused(message)));
        }
        Ok(())
    }
}

/// What all windows of a program have in common.
fn client_of(link: &XConnection, window: Window) -> u32 {
    window & !link.conn.setup().resource_id_mask
}

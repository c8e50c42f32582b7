//! What a program that owns the clipboard holds there: asked for one form after another, each of which may
//! come in pieces (ICCCM, section 2.4).

use std::collections::VecDeque;

use x11rb::connection::Connection;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ConnectionExt as _, GetPropertyType, PropertyNotifyEvent, SelectionNotifyEvent,
    Window,
};

use super::{ClipboardJob, ClipboardPhase, ClipboardPurpose, ClipboardWork, READING};
use crate::connection::XConnection;
use crate::windows::numbers_in;
use lantern_backend::BackendError;
use lantern_backend::copied_contents::{ClipboardContents, ClipboardForm};

impl ClipboardWork<'_> {
    pub(super) fn ask(&mut self, selection: Atom, form: Atom) -> Result<(), BackendError> {
        let window = self.clipboard.offer.window(self.link)?;
        let property = self.link.atoms.COLD_LANTERN_DATA;
        self.link.conn.delete_property(window, property)?;
        let time = x11rb::CURRENT_TIME;
        self.link.conn.convert_selection(window, selection, form, property, time)?;
        self.link.conn.flush()?;
        Ok(())
    }

    /// The owner of the clipboard answered.
    pub(crate) fn handle_answer(
        &mut self,
        answer: &SelectionNotifyEvent,
    ) -> Result<(), BackendError> {
        let ours = self.clipboard.offer.is_window(answer.requestor);
        let Some(job) = self.clipboard.job.as_ref().filter(|_| ours) else {
            return Ok(());
        };
        if job.selection != answer.selection {
            return Ok(());
        }
        let form = if answer.property == x11rb::NONE {
            None
        } else {
            Some(take_property(self.link, answer.requestor, answer.property)?)
        };
        self.take_in_form(form)
    }

    /// A form came, or the owner does not have it.
    fn take_in_form(&mut self, form: Option<ClipboardForm>) -> Result<(), BackendError> {
        let atoms = self.link.atoms;
        let Some(job) = &mut self.clipboard.job else { return Ok(()) };
        job.until = self.now + READING;
        match &mut job.phase {
            ClipboardPhase::Forms => {
                let listed = form.map_or_else(Vec::new, |form| numbers_in(&form.bytes));
                let text = [atoms.UTF8_STRING, AtomEnum::STRING.into()];
                // These are no forms of the contents.
                let about = [
                    atoms.TARGETS,
                    atoms.MULTIPLE,
                    atoms.TIMESTAMP,
                    atoms.SAVE_TARGETS,
                    atoms.DELETE,
                ];
                let left: VecDeque<Atom> = match &job.purpose {
                    ClipboardPurpose::Paste(_) => {
                        listed.into_iter().filter(|form| !about.contains(form)).collect()
                    }
                    ClipboardPurpose::Read => {
                        text.into_iter().filter(|form| listed.contains(form)).take(1).collect()
                    }
                };
                job.phase =
                    ClipboardPhase::Reading { left, read: ClipboardContents::new(), pieces: None };
            }
            ClipboardPhase::Reading { left, read, pieces } => match form {
                Some(form) if form.kind == atoms.INCR => {
                    // It comes in pieces, each when the one before was deleted.
                    *pieces = Some(ClipboardForm { kind: 0, format: 8, bytes: Vec::new() });
                    return Ok(());
                }
                form => {
                    let asked = left.pop_front();
                    if let (Some(asked), Some(form)) = (asked, form) {
                        read.insert(asked, form);
                    }
                }
            },
            ClipboardPhase::Announced { .. } | ClipboardPhase::Offered { .. } => return Ok(()),
        }
        self.read_on()
    }

    fn read_on(&mut self) -> Result<(), BackendError> {
        let Some(job) = &mut self.clipboard.job else { return Ok(()) };
        let ClipboardPhase::Reading { left, read, .. } = &mut job.phase else { return Ok(()) };
        match left.front().copied() {
            Some(form) => {
                let selection = job.selection;
                self.ask(selection, form)
            }
            None => {
                let read = std::mem::take(read);
                self.have_read(read)
            }
        }
    }

    /// A piece of a form lies in our window's property.
    pub(super) fn take_in_piece(
        &mut self,
        change: &PropertyNotifyEvent,
    ) -> Result<(), BackendError> {
        let receiving = matches!(
            &self.clipboard.job,
            Some(ClipboardJob { phase: ClipboardPhase::Reading { pieces: Some(_), .. }, .. })
        );
        if !receiving || !self.clipboard.offer.is_window(change.window) {
            return Ok(());
        }
        let piece = take_property(self.link, change.window, change.atom)?;
        let Some(ClipboardJob {
            phase: ClipboardPhase::Reading { left, read, pieces }, until, ..
        }) = &mut self.clipboard.job
        else {
            return Ok(());
        };
        *until = self.now + READING;
        let Some(whole) = pieces else { return Ok(()) };
        if !piece.bytes.is_empty() {
            (whole.kind, whole.format) = (piece.kind, piece.format);
            whole.bytes.extend(piece.bytes);
            return Ok(());
        }
        if let (Some(form), Some(whole)) = (left.pop_front(), pieces.take()) {
            read.insert(form, whole);
        }
        self.read_on()
    }

    /// The form that was waited for did not come, and is left out.
    pub(super) fn skip_form(&mut self) -> Result<(), BackendError> {
        if let Some(ClipboardJob { phase: ClipboardPhase::Reading { pieces, .. }, .. }) =
            &mut self.clipboard.job
        {
            *pieces = None;
        }
        self.take_in_form(None)
    }
}

fn take_property(
    link: &XConnection,
    window: Window,
    property: Atom,
) -> Result<ClipboardForm, BackendError> {
    let all = u32::MAX / 4;
    let cookie = link.conn.get_property(true, window, property, GetPropertyType::ANY, 0, all)?;
    let reply = cookie.reply()?;
    Ok(ClipboardForm { kind: reply.type_, format: reply.format, bytes: reply.value })
}

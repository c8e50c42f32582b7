//! The clipboard as its owner has it: what others ask of us is handed to them, in pieces if it is
//! large (ICCCM, section 2.7).

use lantern_model::Time;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ChangeWindowAttributesAux, ConnectionExt as _, EventMask, PropMode,
    SELECTION_NOTIFY_EVENT, SelectionNotifyEvent, SelectionRequestEvent, Window,
};

use super::{Contents, FETCHING, Form, Heard, Job, Phase, client_of};
use crate::DeskError;
use crate::x11::X11Desk;
use crate::x11::connection::Link;

/// From here on, data are handed over in pieces of this many bytes.
const PIECE: usize = 256 * 1024;

/// Data on their way to a program in pieces.
#[derive(Debug)]
pub(super) struct Sending {
    to: Window,
    property: Atom,
    form: Form,
    sent: usize,
    /// Whether what is pasted is all there, once this is.
    pasted: bool,
}

impl X11Desk {
    pub(super) fn own(&mut self, selection: Atom, contents: Contents) -> Result<(), DeskError> {
        let window = self.clipboard_window()?;
        let owner = if contents.is_empty() { x11rb::NONE } else { window };
        self.link.conn.set_selection_owner(owner, selection, x11rb::CURRENT_TIME)?;
        if contents.is_empty() {
            self.clipboard.owned.remove(&selection);
        } else {
            self.clipboard.owned.insert(selection, contents);
        }
        Ok(())
    }

    pub(super) fn owner_of(&self, selection: Atom) -> Result<Window, DeskError> {
        Ok(self.link.conn.get_selection_owner(selection)?.reply()?.owner)
    }

    /// Somebody copied something; unless it is ours again since.
    pub(in crate::x11) fn lose_clipboard(
        &mut self,
        now: Time,
        selection: Atom,
    ) -> Result<(), DeskError> {
        if Some(self.owner_of(selection)?) == self.clipboard.window {
            return Ok(());
        }
        self.clipboard.owned.remove(&selection);
        let unserved = matches!(
            &self.clipboard.job,
            Some(Job {
                selection: pasted,
                phase: Phase::Announced { .. } | Phase::Offered { .. },
                ..
            }) if *pasted == selection
        );
        if unserved && self.clipboard.handed.is_none() && self.clipboard.sending.is_empty() {
            let message = "something was copied just then, and stays in the clipboard";
            return self.end_job(now, Err(message.to_owned()));
        }
        Ok(())
    }

    /// A program asks for what we own.
    pub(in crate::x11) fn serve(
        &mut self,
        request: &SelectionRequestEvent,
    ) -> Result<(), DeskError> {
        let property =
            if request.property == x11rb::NONE { request.target } else { request.property };
        let mut answer = SelectionNotifyEvent {
            response_type: SELECTION_NOTIFY_EVENT,
            sequence: 0,
            time: request.time,
            requestor: request.requestor,
            selection: request.selection,
            target: request.target,
            property: x11rb::NONE,
        };
        if self.hand_form(request, property)? {
            answer.property = property;
        }
        let mask = EventMask::NO_EVENT;
        self.link.conn.send_event(false, request.requestor, mask, answer)?;
        self.link.conn.flush()?;
        Ok(())
    }

    fn hand_form(
        &mut self,
        request: &SelectionRequestEvent,
        property: Atom,
    ) -> Result<bool, DeskError> {
        let (link, to) = (&self.link, request.requestor);
        let Some(contents) = self.clipboard.owned.get(&request.selection) else {
            return Ok(false);
        };
        if request.target == link.atoms.TARGETS {
            let listed = contents.keys().copied().chain([link.atoms.TARGETS]);
            let bytes: Vec<u8> = listed.flat_map(u32::to_ne_bytes).collect();
            let form = Form { kind: AtomEnum::ATOM.into(), format: 32, bytes };
            if matches!(
                &self.clipboard.job,
                Some(Job { phase: Phase::Announced { client, .. }, .. })
                    if client_of(link, to) == *client
            ) {
                watch_properties(link, to)?;
                self.clipboard.handed = Some((to, property));
            }
            put_property(link, to, property, &form)?;
            return Ok(true);
        }
        let Some(form) = contents.get(&request.target).cloned() else {
            return Ok(false);
        };
        watch_properties(link, to)?;
        let pasted = matches!(
            &self.clipboard.job,
            Some(Job { phase: Phase::Offered { client, .. }, selection, .. })
                if *selection == request.selection && client_of(link, to) == *client
        );
        if let Some(Job { phase: Phase::Offered { heard, .. }, .. }) = &mut self.clipboard.job
            && pasted
        {
            *heard = Heard::Asking;
        }
        if form.bytes.len() <= PIECE {
            put_property(link, to, property, &form)?;
            if pasted {
                self.clipboard.handed = Some((to, property));
            }
            return Ok(true);
        }
        let size = u32::try_from(form.bytes.len()).unwrap_or(u32::MAX).to_ne_bytes().to_vec();
        let whole = Form { kind: link.atoms.INCR, format: 32, bytes: size };
        put_property(link, to, property, &whole)?;
        self.clipboard.sending.push(Sending { to, property, form, sent: 0, pasted });
        Ok(true)
    }

    /// A piece was taken: the next one, if it belongs to something that is under way.
    pub(super) fn send_on(
        &mut self,
        now: Time,
        window: Window,
        property: Atom,
    ) -> Result<(), DeskError> {
        let is_it = |sending: &Sending| sending.to == window && sending.property == property;
        let Some(at) = self.clipboard.sending.iter().position(is_it) else {
            return Ok(());
        };
        let sending = &mut self.clipboard.sending[at];
        let end = (sending.sent + PIECE).min(sending.form.bytes.len());
        let piece = Form { bytes: sending.form.bytes[sending.sent..end].to_vec(), ..sending.form };
        let over = sending.sent == sending.form.bytes.len();
        sending.sent = end;
        put_property(&self.link, window, property, &piece)?;
        self.link.conn.flush()?;
        if over {
            // The empty piece ends it.
            let sending = self.clipboard.sending.remove(at);
            if sending.pasted {
                return self.end_job(now, Ok(None));
            }
        } else if let Some(job) =
            self.clipboard.job.as_mut().filter(|_| self.clipboard.sending[at].pasted)
        {
            job.until = now + FETCHING;
        }
        Ok(())
    }
}

/// The forms of a text.
pub(super) fn text_forms(link: &Link, text: &str) -> Contents {
    let atoms = &link.atoms;
    let utf8 = Form { kind: atoms.UTF8_STRING, format: 8, bytes: text.as_bytes().to_vec() };
    let mut forms: Contents = [atoms.UTF8_STRING, atoms.TEXT, atoms.TEXT_UTF8]
        .into_iter()
        .map(|atom| {
            (atom, Form { kind: if atom == atoms.TEXT { utf8.kind } else { atom }, ..utf8.clone() })
        })
        .collect();
    let latin: Option<Vec<u8>> =
        text.chars().map(|character| u8::try_from(u32::from(character)).ok()).collect();
    if let Some(bytes) = latin {
        let string = AtomEnum::STRING.into();
        forms.insert(string, Form { kind: string, format: 8, bytes });
    }
    forms
}

/// Asks to be told of what becomes of a window's properties: only its deleting tells that a program
/// has read what it was handed.
fn watch_properties(link: &Link, window: Window) -> Result<(), DeskError> {
    let watch = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
    link.conn.change_window_attributes(window, &watch)?;
    Ok(())
}

fn put_property(link: &Link, window: Window, property: Atom, form: &Form) -> Result<(), DeskError> {
    let width = usize::from(form.format.max(8)) / 8;
    let count = u32::try_from(form.bytes.len() / width).unwrap_or(u32::MAX);
    link.conn.change_property(
        PropMode::REPLACE,
        window,
        property,
        form.kind,
        form.format.max(8),
        count,
        &form.bytes,
    )?;
    Ok(())
}

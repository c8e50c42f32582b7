//! The clipboard as its owner has it: what others ask of us is handed to them, in pieces if it is
//! large (ICCCM, sections 2.6 and 2.7).

use std::collections::BTreeMap;

use x11rb::connection::Connection;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ChangeWindowAttributesAux, ConnectionExt as _, CreateWindowAux, EventMask,
    PropMode, PropertyNotifyEvent, SELECTION_NOTIFY_EVENT, SelectionNotifyEvent,
    SelectionRequestEvent, Timestamp, Window, WindowClass,
};

use crate::connection::XConnection;
use crate::windows::numbers;
use lantern_backend::BackendError;
use lantern_backend::copied_contents::{ClipboardContents, ClipboardForm};

/// From here on, data are handed over in pieces of this many bytes.
const PIECE: usize = 256 * 1024;

/// Data on their way to a program in pieces.
#[derive(Debug)]
struct IncrementalTransfer {
    to: Window,
    property: Atom,
    form: ClipboardForm,
    sent: usize,
    /// Whether what is pasted is all there, once this is.
    pasted: bool,
}

/// A clipboard of ours.
#[derive(Debug)]
struct OwnedSelection {
    contents: ClipboardContents,
    /// Since when, by the server's clock, once it has told.
    since: Option<Timestamp>,
}

/// What we own of the clipboards, and hand to who asks.
#[derive(Debug, Default)]
pub(super) struct SelectionOwner {
    /// A window of ours that owns and asks.
    window: Option<Window>,
    owned: BTreeMap<Atom, OwnedSelection>,
    sending: Vec<IncrementalTransfer>,
}

/// What was handed to a program.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Delivery {
    /// Nothing: we do not have it.
    Nothing,
    /// What forms there are, or since when.
    About,
    /// A form.
    ClipboardForm,
    /// A form of which the pieces follow.
    Pieces,
}

/// A piece that was handed to a program.
#[derive(Debug, Clone, Copy)]
pub(super) struct TransferPiece {
    /// Whether it belongs to what is pasted.
    pub pasted: bool,
    /// Whether it is the last one.
    pub last: bool,
}

impl SelectionOwner {
    /// The window of ours.
    pub(super) fn window(&mut self, link: &XConnection) -> Result<Window, BackendError> {
        if let Some(window) = self.window {
            return Ok(window);
        }
        let window = link.conn.generate_id()?;
        let look = CreateWindowAux::new().event_mask(EventMask::PROPERTY_CHANGE);
        let class = WindowClass::INPUT_ONLY;
        link.conn.create_window(0, window, link.root, -1, -1, 1, 1, 0, class, 0, &look)?;
        self.window = Some(window);
        Ok(window)
    }

    /// Whether that is the window of ours.
    pub(super) fn is_window(&self, window: Window) -> bool {
        self.window == Some(window)
    }

    /// What we own of a clipboard.
    pub(super) fn owned(&self, selection: Atom) -> Option<&ClipboardContents> {
        self.owned.get(&selection).map(|owned| &owned.contents)
    }

    /// Everything that we own.
    pub(super) fn all(&self) -> impl Iterator<Item = (Atom, &ClipboardContents)> {
        self.owned.iter().map(|(selection, owned)| (*selection, &owned.contents))
    }

    /// Whether a program still has pieces to fetch.
    pub(super) fn is_sending(&self) -> bool {
        !self.sending.is_empty()
    }

    /// Owns that; a clipboard with nothing in it is nobody's.
    pub(super) fn own(
        &mut self,
        link: &XConnection,
        selection: Atom,
        contents: ClipboardContents,
    ) -> Result<(), BackendError> {
        let window = self.window(link)?;
        let owner = if contents.is_empty() { x11rb::NONE } else { window };
        link.conn.set_selection_owner(owner, selection, x11rb::CURRENT_TIME)?;
        if contents.is_empty() {
            self.owned.remove(&selection);
            return Ok(());
        }
        self.owned.insert(selection, OwnedSelection { contents, since: None });
        // The server reports its time to a client that changes a property, even by nothing.
        let (mode, kind) = (PropMode::APPEND, AtomEnum::INTEGER);
        link.conn.change_property(mode, window, link.atoms.COLD_LANTERN_TIME, kind, 32, 0, &[])?;
        Ok(())
    }

    /// Whether that tells since when we own something.
    pub(super) fn note_time(&mut self, link: &XConnection, change: &PropertyNotifyEvent) -> bool {
        let is_time = self.is_window(change.window) && change.atom == link.atoms.COLD_LANTERN_TIME;
        if is_time {
            for owned in self.owned.values_mut() {
                owned.since.get_or_insert(change.time);
            }
        }
        is_time
    }

    /// Handles that another program owns it now.
    pub(super) fn lose(&mut self, selection: Atom) {
        self.owned.remove(&selection);
    }

    /// Serves a request for what we own. With `watched` an event reports when the program has read
    /// the list of forms.
    pub(super) fn serve(
        &mut self,
        link: &XConnection,
        request: &SelectionRequestEvent,
        watched: bool,
    ) -> Result<Delivery, BackendError> {
        let property = property_of(request);
        let handed = if request.target == link.atoms.MULTIPLE {
            self.hand_several(link, request, watched)?
        } else {
            self.hand(link, request, (request.target, property), watched)?
        };
        let answer = SelectionNotifyEvent {
            response_type: SELECTION_NOTIFY_EVENT,
            sequence: 0,
            time: request.time,
            requestor: request.requestor,
            selection: request.selection,
            target: request.target,
            property: if handed == Delivery::Nothing { x11rb::NONE } else { property },
        };
        link.conn.send_event(false, request.requestor, EventMask::NO_EVENT, answer)?;
        link.conn.flush()?;
        Ok(handed)
    }

    /// Hands over all that stands in the list of who asks, and strikes out there what we do not have.
    fn hand_several(
        &mut self,
        link: &XConnection,
        request: &SelectionRequestEvent,
        watched: bool,
    ) -> Result<Delivery, BackendError> {
        let (to, list) = (request.requestor, request.property);
        if list == x11rb::NONE {
            return Ok(Delivery::Nothing);
        }
        let mut atoms = numbers(link, to, list, link.atoms.ATOM_PAIR)?;
        let mut most = Delivery::Nothing;
        for pair in atoms.chunks_exact_mut(2).filter(|pair| pair[1] != x11rb::NONE) {
            let handed = self.hand(link, request, (pair[0], pair[1]), watched)?;
            if handed == Delivery::Nothing {
                pair[1] = x11rb::NONE;
            }
            most = most.max(handed);
        }
        let struck =
            ClipboardForm { kind: link.atoms.ATOM_PAIR, format: 32, bytes: bytes_of(atoms) };
        put_property(link, to, list, &struck)?;
        Ok(most)
    }

    fn hand(
        &mut self,
        link: &XConnection,
        request: &SelectionRequestEvent,
        (target, property): (Atom, Atom),
        watched: bool,
    ) -> Result<Delivery, BackendError> {
        let (to, atoms) = (request.requestor, &link.atoms);
        let Some(owned) = self.owned.get(&request.selection) else {
            return Ok(Delivery::Nothing);
        };
        let about = if target == atoms.TARGETS {
            let forms = owned.contents.keys().copied();
            let listed = forms.chain([atoms.TARGETS, atoms.MULTIPLE, atoms.TIMESTAMP]);
            Some((AtomEnum::ATOM, bytes_of(listed)))
        } else if target == atoms.TIMESTAMP {
            owned.since.map(|since| (AtomEnum::INTEGER, bytes_of([since])))
        } else {
            None
        };
        if let Some((kind, bytes)) = about {
            if watched {
                watch_properties(link, to)?;
            }
            put_property(
                link,
                to,
                property,
                &ClipboardForm { kind: kind.into(), format: 32, bytes },
            )?;
            return Ok(Delivery::About);
        }
        let Some(form) = owned.contents.get(&target).cloned() else {
            return Ok(Delivery::Nothing);
        };
        watch_properties(link, to)?;
        if form.bytes.len() <= PIECE {
            put_property(link, to, property, &form)?;
            return Ok(Delivery::ClipboardForm);
        }
        let size = u32::try_from(form.bytes.len()).unwrap_or(u32::MAX).to_ne_bytes().to_vec();
        let whole = ClipboardForm { kind: link.atoms.INCR, format: 32, bytes: size };
        put_property(link, to, property, &whole)?;
        self.sending.push(IncrementalTransfer { to, property, form, sent: 0, pasted: false });
        Ok(Delivery::Pieces)
    }

    /// The pieces that go to that window belong to what is pasted.
    pub(super) fn note_pasted(&mut self, to: Window) {
        for sending in self.sending.iter_mut().filter(|sending| sending.to == to) {
            sending.pasted = true;
        }
    }

    /// A property was read: the next piece, if it belongs to something that is under way.
    pub(super) fn send_on(
        &mut self,
        link: &XConnection,
        window: Window,
        property: Atom,
    ) -> Result<Option<TransferPiece>, BackendError> {
        let is_it =
            |sending: &IncrementalTransfer| sending.to == window && sending.property == property;
        let Some(at) = self.sending.iter().position(is_it) else {
            return Ok(None);
        };
        let sending = &mut self.sending[at];
        let end = (sending.sent + PIECE).min(sending.form.bytes.len());
        let piece =
            ClipboardForm { bytes: sending.form.bytes[sending.sent..end].to_vec(), ..sending.form };
        // The empty piece ends it.
        let last = sending.sent == sending.form.bytes.len();
        sending.sent = end;
        let pasted = sending.pasted;
        put_property(link, window, property, &piece)?;
        link.conn.flush()?;
        if last {
            self.sending.remove(at);
        }
        Ok(Some(TransferPiece { pasted, last }))
    }
}

/// Where a program wants what it asks for.
pub(super) fn property_of(request: &SelectionRequestEvent) -> Atom {
    if request.property == x11rb::NONE { request.target } else { request.property }
}

/// The forms of a text.
pub(super) fn text_forms(link: &XConnection, text: &str) -> ClipboardContents {
    let atoms = &link.atoms;
    let utf8 =
        ClipboardForm { kind: atoms.UTF8_STRING, format: 8, bytes: text.as_bytes().to_vec() };
    let mut forms: ClipboardContents = [atoms.UTF8_STRING, atoms.TEXT, atoms.TEXT_UTF8]
        .into_iter()
        .map(|atom| {
            (
                atom,
                ClipboardForm {
                    kind: if atom == atoms.TEXT { utf8.kind } else { atom },
                    ..utf8.clone()
                },
            )
        })
        .collect();
    let latin: Option<Vec<u8>> =
        text.chars().map(|character| u8::try_from(u32::from(character)).ok()).collect();
    if let Some(bytes) = latin {
        let string = AtomEnum::STRING.into();
        forms.insert(string, ClipboardForm { kind: string, format: 8, bytes });
    }
    forms
}

fn bytes_of(numbers: impl IntoIterator<Item = u32>) -> Vec<u8> {
    numbers.into_iter().flat_map(u32::to_ne_bytes).collect()
}

/// Asks to be told of what becomes of a window's properties: only its deleting tells that a program
/// has read what it was handed.
fn watch_properties(link: &XConnection, window: Window) -> Result<(), BackendError> {
    let watch = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
    link.conn.change_window_attributes(window, &watch)?;
    Ok(())
}

fn put_property(
    link: &XConnection,
    window: Window,
    property: Atom,
    form: &ClipboardForm,
) -> Result<(), BackendError> {
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

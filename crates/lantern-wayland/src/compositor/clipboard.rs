//! The clipboard of a Wayland session: what it holds, a text that is lent to it for a while, and what it held
//! before, put back.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use lantern_model::CommandError;
use rustix::event::{EventfdFlags, PollFd, PollFlags, Timespec, eventfd, poll};
use rustix::pipe::{PipeFlags, pipe_with};
use wayland_client::backend::ObjectId;
use wayland_client::protocol::wl_seat::WlSeat;
use wayland_client::{Connection, Dispatch, Proxy, QueueHandle};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_device_v1::{
    self as device, ZwlrDataControlDeviceV1,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_manager_v1::ZwlrDataControlManagerV1;
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_offer_v1::{
    self as offer, ZwlrDataControlOfferV1,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_source_v1::{
    self as source, ZwlrDataControlSourceV1,
};

use super::PASTE_TIMEOUT;

/// What text is called, the best first.
const TEXT: [&str; 5] = ["text/plain;charset=utf-8", "UTF8_STRING", "text/plain", "TEXT", "STRING"];
/// Maximum time for the owner of the clipboard to send one form of its content.
const PATIENCE: Duration = Duration::from_millis(500);
/// The most that is kept of what the clipboard held, in bytes.
const MOST: usize = 64 << 20;

/// What is given out: data by its MIME type.
type Content = BTreeMap<String, Arc<Vec<u8>>>;

/// State of an event queue that passes the events of these objects to [`WaylandClipboard`].
pub(super) trait ClipboardState:
    Dispatch<ZwlrDataControlDeviceV1, ()> + Dispatch<ZwlrDataControlSourceV1, ()> + 'static
{
}

/// The clipboard of a session, through `zwlr_data_control_manager_v1`.
#[derive(Debug)]
pub(super) struct WaylandClipboard {
    manager: ZwlrDataControlManagerV1,
    device: ZwlrDataControlDeviceV1,
    /// Everything on offer, with the types it comes in.
    offers: HashMap<ObjectId, (ZwlrDataControlOfferV1, BTreeSet<String>)>,
    /// What the clipboard holds now.
    selected: Option<ObjectId>,
    /// What we give out, by its source.
    ours: HashMap<ObjectId, Content>,
    /// The text that is lent.
    lent: Option<TemporaryText>,
    /// Rings when it was taken.
    waker: Arc<OwnedFd>,
}

/// A text that the clipboard holds for a while.
#[derive(Debug)]
struct TemporaryText {
    source: ObjectId,
    before: Content,
    taken: Arc<AtomicBool>,
    /// Another program copied something meanwhile.
    overtaken: bool,
}

impl WaylandClipboard {
    pub(super) fn open(
        manager: ZwlrDataControlManagerV1,
        seat: &WlSeat,
        handle: &QueueHandle<impl ClipboardState>,
    ) -> rustix::io::Result<WaylandClipboard> {
        let waker = Arc::new(eventfd(0, EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK)?);
        let device = manager.get_data_device(seat, handle, ());
        let (offers, ours) = (HashMap::new(), HashMap::new());
        Ok(WaylandClipboard { manager, device, offers, selected: None, ours, lent: None, waker })
    }

    /// What becomes readable when what was lent was taken.
    pub(super) fn descriptor(&self) -> BorrowedFd<'_> {
        self.waker.as_fd()
    }

    /// It was looked at.
    pub(super) fn reset_waker(&self) {
        // It only wakes.
        let _ = rustix::io::read(&*self.waker, &mut [0; 8]);
    }

    /// The text it holds; empty if it holds none.
    pub(super) fn read_text(&self, connection: &Connection) -> Result<String, CommandError> {
        let Some((_, types)) = self.selected.as_ref().and_then(|id| self.offers.get(id)) else {
            return Ok(String::new());
        };
        let Some(kind) = TEXT.iter().find(|kind| types.contains(**kind)) else {
            return Ok(String::new());
        };
        let bytes = self.read(kind, connection)?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }

    /// One form of the content, read from the clipboard's owner.
    fn read(&self, kind: &str, connection: &Connection) -> Result<Vec<u8>, CommandError> {
        let Some((offer, _)) = self.selected.as_ref().and_then(|id| self.offers.get(id)) else {
            return Ok(Vec::new());
        };
        let failed = |error: rustix::io::Errno| {
            CommandError::unavailable(format!("the clipboard cannot be read: {error}"))
        };
        let (from, to) = pipe_with(PipeFlags::CLOEXEC).map_err(failed)?;
        offer.receive(kind.to_owned(), to.as_fd());
        // Whether it went out is seen by what comes.
        let _ = connection.flush();
        drop(to);
        read_within(from, PATIENCE)
    }

    /// Keeps what it holds, and gives it a text instead.
    pub(super) fn lend(
        &mut self,
        text: &str,
        connection: &Connection,
        handle: &QueueHandle<impl ClipboardState>,
    ) -> Result<(), CommandError> {
        let selected = self.selected.as_ref().and_then(|id| self.offers.get(id));
        let types = selected.map(|(_, types)| types.clone()).unwrap_or_default();
        let mut before = Content::new();
        let mut size = 0;
        for kind in types {
            let bytes = self.read(&kind, connection)?;
            size += bytes.len();
            if size > MOST {
                return Err(CommandError::refused(
                    "the clipboard holds too much to be kept meanwhile",
                ));
            }
            before.insert(kind, Arc::new(bytes));
        }
        let bytes = Arc::new(text.as_bytes().to_vec());
        let content = TEXT.iter().map(|kind| ((*kind).to_owned(), Arc::clone(&bytes))).collect();
        let source = self.give_out(content, handle);
        let taken = Arc::default();
        self.lent = Some(TemporaryText { source, before, taken, overtaken: false });
        Ok(())
    }

    /// The clipboard holds this from now on, as long as we are there.
    fn give_out(
        &mut self,
        content: Content,
        handle: &QueueHandle<impl ClipboardState>,
    ) -> ObjectId {
        let source = self.manager.create_data_source(handle, ());
        for kind in content.keys() {
            source.offer(kind.clone());
        }
        self.device.set_selection(Some(&source));
        let id = source.id();
        self.ours.insert(id.clone(), content);
        id
    }

    pub(super) fn was_taken(&self) -> bool {
        self.lent.as_ref().is_some_and(|lent| lent.taken.load(Ordering::SeqCst))
    }

    /// Restores the previous content, unless a program copied something meanwhile.
    pub(super) fn give_back(&mut self, handle: &QueueHandle<impl ClipboardState>) {
        let Some(lent) = self.lent.take().filter(|lent| !lent.overtaken) else { return };
        if lent.before.is_empty() {
            self.device.set_selection(None);
        } else {
            self.give_out(lent.before, handle);
        }
    }

    /// Takes in an event of the data device: an offer, or a new selection.
    pub(super) fn on_device_event(&mut self, event: device::Event) {
        match event {
            device::Event::DataOffer { id } => {
                self.offers.insert(id.id(), (id, BTreeSet::new()));
            }
            device::Event::Selection { id } => {
                let selected = id.map(|offer| offer.id());
                if let Some(before) =
                    self.selected.take().filter(|id| Some(id) != selected.as_ref())
                    && let Some((offer, _)) = self.offers.remove(&before)
                {
                    offer.destroy();
                }
                self.selected = selected;
            }
            _ => {}
        }
    }

    /// Takes in an event of an offer: one of its MIME types.
    pub(super) fn on_offer_event(&mut self, offer: &ZwlrDataControlOfferV1, event: offer::Event) {
        if let offer::Event::Offer { mime_type } = event
            && let Some((_, types)) = self.offers.get_mut(&offer.id())
        {
            types.insert(mime_type);
        }
    }

    /// Takes in an event of a source of ours: a request for its data, or its end.
    pub(super) fn on_source_event(
        &mut self,
        source: &ZwlrDataControlSourceV1,
        event: source::Event,
    ) {
        match event {
            source::Event::Send { mime_type, fd } => self.send(&source.id(), &mime_type, fd),
            source::Event::Cancelled => {
                self.ours.remove(&source.id());
                if let Some(lent) = &mut self.lent
                    && lent.source == source.id()
                {
                    lent.overtaken = true;
                }
                source.destroy();
            }
            _ => {}
        }
    }

    /// A program requests the content we offer.
    fn send(&self, source: &ObjectId, kind: &str, to: OwnedFd) {
        let Some(bytes) = self.ours.get(source).and_then(|content| content.get(kind)).cloned()
        else {
            return;
        };
        let lent = self.lent.as_ref().filter(|lent| lent.source == *source);
        let taken = lent.map(|lent| (Arc::clone(&lent.taken), Arc::clone(&self.waker)));
        // The requesting program may read slowly.
        thread::spawn(move || {
            let mut to = File::from(to);
            let sent = to.write_all(&bytes);
            if let (Ok(()), Some((taken, waker))) = (sent, taken)
                && is_read(to)
            {
                taken.store(true, Ordering::SeqCst);
                let _ = rustix::io::write(&*waker, &1u64.to_ne_bytes());
            }
        });
    }
}

/// Whether what was written to a pipe is read soon. Before that it must not be taken back: a program that
/// sees another clipboard while it begins to read takes that one instead.
fn is_read(pipe: File) -> bool {
    let until = Instant::now() + PASTE_TIMEOUT;
    let look = Timespec { tv_sec: 0, tv_nsec: 500_000 };
    while rustix::io::ioctl_fionread(&pipe).is_ok_and(|left| left > 0) {
        // A pipe whose reader is gone returns an error.
        let closed = poll(&mut [PollFd::new(&pipe, PollFlags::empty())], Some(&look)) != Ok(0);
        if closed || Instant::now() > until {
            return closed;
        }
    }
    true
}

/// Everything that comes from a pipe until it is closed.
fn read_within(from: OwnedFd, span: Duration) -> Result<Vec<u8>, CommandError> {
    let until = Instant::now() + span;
    let mut file = File::from(from);
    let mut bytes = Vec::new();
    let mut piece = vec![0; 65_536];
    loop {
        let left = until.saturating_duration_since(Instant::now());
        let left = Timespec::try_from(left).ok();
        let mut fds = [PollFd::new(&file, PollFlags::IN)];
        if poll(&mut fds, left.as_ref()).unwrap_or(0) == 0 {
            return Err(CommandError::timed_out(
                "the program that owns the clipboard does not answer",
            ));
        }
        match file.read(&mut piece) {
            Ok(0) => return Ok(bytes),
            Ok(length) => bytes.extend_from_slice(&piece[..length]),
            Err(error) => {
                return Err(CommandError::unavailable(format!(
                    "the clipboard cannot be read: {error}"
                )));
            }
        }
        if bytes.len() > MOST {
            return Err(CommandError::refused("the clipboard holds too much to be kept meanwhile"));
        }
    }
}

//! The X server as one thread talks to it: requests go out gathered, answers and events come in when
//! they are asked for.
//!
//! The X library encodes and decodes every message, and knows which replies are pending; this
//! module sends and receives them by our [`PacketBuffer`]. The library's own connection is made for
//! several threads: its locks and wake-ups for each message are most of the cost of a key. Here one
//! thread uses a connection.

use std::cell::{Cell, RefCell};
use std::io::IoSlice;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::event::Timespec;
use x11rb::connection::{
    BufWithFds, Connection, DiscardMode, RawEventAndSeqNumber, ReplyOrError, RequestConnection,
    RequestKind, SequenceNumber, compute_length_field,
};
use x11rb::cookie::{Cookie, CookieWithFds, VoidCookie};
use x11rb::errors::{
    ConnectError, ConnectionError, DisplayParsingError, ParseError, ReplyError, ReplyOrIdError,
};
use x11rb::protocol::Event;
use x11rb::protocol::bigreq::ConnectionExt as _;
use x11rb::protocol::xc_misc::{self, ConnectionExt as _};
use x11rb::protocol::xproto::{ConnectionExt as _, GET_INPUT_FOCUS_REQUEST, Setup};
use x11rb::reexports::x11rb_protocol::connect::Connect;
use x11rb::reexports::x11rb_protocol::connection::{self as protocol, PollReply, ReplyFdKind};
use x11rb::reexports::x11rb_protocol::id_allocator::IdAllocator;
use x11rb::reexports::x11rb_protocol::parse_display::parse_display;
use x11rb::reexports::x11rb_protocol::xauth::get_auth;
use x11rb::rust_connection::DefaultStream;
use x11rb::utils::RawFdContainer;
use x11rb::x11_utils::{ExtInfoProvider, ExtensionInformation, TryParse, TryParseFd, X11Error};

use super::packet_buffer::PacketBuffer;

/// Connects to a display, and gives the number of its screen.
pub(super) fn connect(display: &str) -> Result<(ServerConnection, usize), ConnectError> {
    let parsed = parse_display(Some(display))?;
    let mut failure = ConnectError::DisplayParsingError(DisplayParsingError::Unknown);
    for address in parsed.connect_instruction() {
        match DefaultStream::connect(&address) {
            Ok((stream, (family, host))) => {
                // One without a key may still be let in.
                let key = get_auth(family, &host, parsed.display).ok().flatten();
                let conn = ServerConnection::introduce(stream.into(), key.unwrap_or_default())?;
                let screen = usize::from(parsed.screen);
                let known = screen < conn.setup.roots.len();
                return if known { Ok((conn, screen)) } else { Err(ConnectError::InvalidScreen) };
            }
            Err(error) => failure = ConnectError::IoError(error),
        }
    }
    Err(failure)
}

/// A connection that stands.
#[derive(Debug)]
pub(super) struct ServerConnection {
    setup: Setup,
    talk: RefCell<SyncState>,
    extensions: RefCell<ExtensionTable>,
    ids: RefCell<IdAllocator>,
    /// The longest request in bytes, once that was asked.
    longest: Cell<Option<usize>>,
    /// The socket once more, for who waits for it beside other things.
    waitable: OwnedFd,
}

/// What was sent and what came.
#[derive(Debug)]
struct SyncState {
    wire: PacketBuffer,
    /// Requests with pending replies, and messages that have not been taken.
    messages: protocol::Connection,
}

impl SyncState {
    fn send(
        &mut self,
        pieces: &[IoSlice<'_>],
        kind: ReplyFdKind,
    ) -> Result<SequenceNumber, ConnectionError> {
        let number = loop {
            match self.messages.send_request(kind) {
                Some(number) => break number,
                None => self.ask_for_sign()?,
            }
        };
        self.wire.put(pieces)?;
        Ok(number)
    }

    /// Sends a request without waiting for its reply, which shows how far the server is.
    fn ask_for_sign(&mut self) -> Result<(), ConnectionError> {
        let [low, high] = 1u16.to_ne_bytes();
        let request = [GET_INPUT_FOCUS_REQUEST, 0, low, high];
        let number = self.send(&[IoSlice::new(&request)], ReplyFdKind::ReplyWithoutFDs)?;
        self.messages.discard_reply(number, DiscardMode::DiscardReplyAndError);
        Ok(())
    }

    /// Takes in what came; waits for something if asked to.
    fn take_in(&mut self, wait: bool) -> Result<(), ConnectionError> {
        if wait {
            self.wire.wait_for_more()?;
        }
        while let Some(packet) = self.wire.next_packet()? {
            self.messages.enqueue_packet(packet);
        }
        Ok(())
    }

    /// Sends what was gathered, and waits until `look` finds what it looks for.
    fn await_answer<T>(
        &mut self,
        mut look: impl FnMut(&mut protocol::Connection) -> Option<T>,
    ) -> Result<T, ConnectionError> {
        self.wire.flush()?;
        loop {
            if let Some(found) = look(&mut self.messages) {
                return Ok(found);
            }
            self.take_in(true)?;
        }
    }
}

impl ServerConnection {
    /// Says to the server who we are, with a key of that name and content.
    fn introduce(
        socket: OwnedFd,
        (name, key): (Vec<u8>, Vec<u8>),
    ) -> Result<ServerConnection, ConnectError> {
        let waitable = socket.try_clone()?;
        let (mut greeting, request) = Connect::with_authorization(name, key);
        let mut wire = PacketBuffer::over(socket);
        wire.put(&[IoSlice::new(&request)])?;
        wire.flush()?;
        let mut whole = false;
        while !whole {
            let wanted = greeting.buffer().len();
            wire.fill(greeting.buffer())?;
            whole = greeting.advance(wanted);
        }
        let setup = greeting.into_setup()?;
        let ids = IdAllocator::new(setup.resource_id_base, setup.resource_id_mask)?;
        Ok(ServerConnection {
            setup,
            talk: RefCell::new(SyncState { wire, messages: protocol::Connection::new() }),
            extensions: RefCell::default(),
            ids: RefCell::new(ids),
            longest: Cell::new(None),
            waitable,
        })
    }

    /// Descriptor that becomes readable when there is more to read. A caller that asks for it is
    /// about to wait, and reads events then.
    pub(super) fn waitable(&self) -> BorrowedFd<'_> {
        self.talk.borrow_mut().wire.note_waiting();
        self.waitable.as_fd()
    }

    /// Sends what was gathered, and sleeps until something arrives, at most for `span`.
    pub(super) fn wait_at_most(&self, span: &Timespec) -> Result<(), ConnectionError> {
        let wire = &mut self.talk.borrow_mut().wire;
        wire.flush()?;
        Ok(wire.wait_at_most(span)?)
    }

    /// Sends a request that is put together already and has no answer. Should it be wrong, an event
    /// says so.
    pub(super) fn send_order(&self, request: &[u8]) -> Result<(), ConnectionError> {
        let mut talk = self.talk.borrow_mut();
        let number = talk.send(&[IoSlice::new(request)], ReplyFdKind::NoReply)?;
        talk.messages.discard_reply(number, DiscardMode::DiscardReply);
        Ok(())
    }

    fn send(
        &self,
        pieces: &[IoSlice<'_>],
        files: &[RawFdContainer],
        kind: ReplyFdKind,
    ) -> Result<SequenceNumber, ConnectionError> {
        if !files.is_empty() {
            return Err(ConnectionError::FdPassingFailed);
        }
        let mut storage = Default::default();
        let pieces = compute_length_field(self, pieces, &mut storage)?;
        self.talk.borrow_mut().send(pieces, kind)
    }
}

impl RequestConnection for ServerConnection {
    type Buf = Vec<u8>;

    fn send_request_with_reply<R: TryParse>(
        &self,
        pieces: &[IoSlice<'_>],
        files: Vec<RawFdContainer>,
    ) -> Result<Cookie<'_, Self, R>, ConnectionError> {
        let number = self.send(pieces, &files, ReplyFdKind::ReplyWithoutFDs)?;
        Ok(Cookie::new(self, number))
    }

    /// The server hands no files over to us: no request that asks for some is made.
    fn send_request_with_reply_with_fds<R: TryParseFd>(
        &self,
        _: &[IoSlice<'_>],
        _: Vec<RawFdContainer>,
    ) -> Result<CookieWithFds<'_, Self, R>, ConnectionError> {
        Err(ConnectionError::FdPassingFailed)
    }

    fn send_request_without_reply(
        &self,
        pieces: &[IoSlice<'_>],
        files: Vec<RawFdContainer>,
    ) -> Result<VoidCookie<'_, Self>, ConnectionError> {
        Ok(VoidCookie::new(self, self.send(pieces, &files, ReplyFdKind::NoReply)?))
    }

    fn discard_reply(&self, number: SequenceNumber, _: RequestKind, mode: DiscardMode) {
        self.talk.borrow_mut().messages.discard_reply(number, mode);
    }

    fn prefetch_extension_information(&self, name: &'static str) -> Result<(), ConnectionError> {
        self.extension_information(name).map(drop)
    }

    fn extension_information(
        &self,
        name: &'static str,
    ) -> Result<Option<ExtensionInformation>, ConnectionError> {
        if let Some(known) = self.extensions.borrow().find(name) {
            return Ok(known);
        }
        let reply = match self.query_extension(name.as_bytes())?.reply() {
            Ok(reply) => Some(reply),
            Err(ReplyError::ConnectionError(error)) => return Err(error),
            Err(ReplyError::X11Error(_)) => None,
        };
        let present = reply.filter(|reply| reply.present).map(|reply| ExtensionInformation {
            major_opcode: reply.major_opcode,
            first_event: reply.first_event,
            first_error: reply.first_error,
        });
        self.extensions.borrow_mut().0.push((name, present));
        Ok(present)
    }

    fn wait_for_reply_or_raw_error(
        &self,
        number: SequenceNumber,
    ) -> Result<ReplyOrError<Vec<u8>>, ConnectionError> {
        Ok(match self.wait_for_reply_with_fds_raw(number)? {
            ReplyOrError::Reply((reply, _)) => ReplyOrError::Reply(reply),
            ReplyOrError::Error(error) => ReplyOrError::Error(error),
        })
    }

    fn wait_for_reply(&self, number: SequenceNumber) -> Result<Option<Vec<u8>>, ConnectionError> {
        self.talk.borrow_mut().await_answer(|messages| settled(messages.poll_for_reply(number)))
    }

    fn wait_for_reply_with_fds_raw(
        &self,
        number: SequenceNumber,
    ) -> Result<ReplyOrError<BufWithFds<Vec<u8>>, Vec<u8>>, ConnectionError> {
        let mut talk = self.talk.borrow_mut();
        let answer = talk.await_answer(|messages| messages.poll_for_reply_or_error(number))?;
        let is_error = answer.0[0] == 0;
        Ok(if is_error { ReplyOrError::Error(answer.0) } else { ReplyOrError::Reply(answer) })
    }

    fn check_for_raw_error(
        &self,
        number: SequenceNumber,
    ) -> Result<Option<Vec<u8>>, ConnectionError> {
        let mut talk = self.talk.borrow_mut();
        if talk.messages.prepare_check_for_reply_or_error(number) {
            talk.ask_for_sign()?;
        }
        talk.await_answer(|messages| settled(messages.poll_check_for_reply_or_error(number)))
    }

    fn prefetch_maximum_request_bytes(&self) {
        self.maximum_request_bytes();
    }

    fn maximum_request_bytes(&self) -> usize {
        if let Some(known) = self.longest.get() {
            return known;
        }
        let usual = self.setup.maximum_request_length.into();
        let enabled = self.bigreq_enable().ok().and_then(|asked| asked.reply().ok());
        let words = enabled.map_or(usual, |reply| reply.maximum_request_length);
        let longest = usize::try_from(words).unwrap_or(usize::MAX).saturating_mul(4);
        self.longest.set(Some(longest));
        longest
    }

    fn parse_error(&self, error: &[u8]) -> Result<X11Error, ParseError> {
        X11Error::try_parse(error, &*self.extensions.borrow())
    }

    fn parse_event(&self, event: &[u8]) -> Result<Event, ParseError> {
        Event::parse(event, &*self.extensions.borrow())
    }
}

/// What came of waiting for a reply; nothing as long as that is not known.
fn settled(answer: PollReply) -> Option<Option<Vec<u8>>> {
    match answer {
        PollReply::TryAgain => None,
        PollReply::NoReply => Some(None),
        PollReply::Reply(reply) => Some(Some(reply)),
    }
}

impl Connection for ServerConnection {
    fn wait_for_raw_event_with_sequence(
        &self,
    ) -> Result<RawEventAndSeqNumber<Vec<u8>>, ConnectionError> {
        // Unlike the wait for an answer, this sends nothing: who wants that flushes.
        loop {
            if let Some(event) = self.poll_for_raw_event_with_sequence()? {
                return Ok(event);
            }
            self.talk.borrow_mut().take_in(true)?;
        }
    }

    fn poll_for_raw_event_with_sequence(
        &self,
    ) -> Result<Option<RawEventAndSeqNumber<Vec<u8>>>, ConnectionError> {
        let mut talk = self.talk.borrow_mut();
        if let Some(event) = talk.messages.poll_for_event_with_sequence() {
            return Ok(Some(event));
        }
        talk.take_in(false)?;
        Ok(talk.messages.poll_for_event_with_sequence())
    }

    fn flush(&self) -> Result<(), ConnectionError> {
        Ok(self.talk.borrow_mut().wire.flush()?)
    }

    fn setup(&self) -> &Setup {
        &self.setup
    }

    fn generate_id(&self) -> Result<u32, ReplyOrIdError> {
        let mut ids = self.ids.borrow_mut();
        if let Some(id) = ids.generate_id() {
            return Ok(id);
        }
        // All were given out once: the server knows which are free again.
        if self.extension_information(xc_misc::X11_EXTENSION_NAME)?.is_some() {
            ids.update_xid_range(&self.xc_misc_get_xid_range()?.reply()?)?;
        }
        ids.generate_id().ok_or(ReplyOrIdError::IdsExhausted)
    }
}

/// The extensions that were queried, by name, if the server has them.
#[derive(Debug, Default)]
struct ExtensionTable(Vec<(&'static str, Option<ExtensionInformation>)>);

impl ExtensionTable {
    fn find(&self, name: &str) -> Option<Option<ExtensionInformation>> {
        self.0.iter().find(|(known, _)| *known == name).map(|(_, information)| *information)
    }

    /// Of those whose numbers begin at or below `number`, the one that begins last.
    fn owner_of(
        &self,
        number: u8,
        first: impl Fn(&ExtensionInformation) -> u8,
    ) -> Option<(&str, ExtensionInformation)> {
        let present = self.0.iter().filter_map(|(name, known)| Some((*name, (*known)?)));
        // A first number of 0 says that it has none.
        let below = present.filter(|(_, known)| (1..=number).contains(&first(known)));
        below.max_by_key(|(_, known)| first(known))
    }
}

impl ExtInfoProvider for ExtensionTable {
    fn get_from_major_opcode(&self, opcode: u8) -> Option<(&str, ExtensionInformation)> {
        let mut present = self.0.iter().filter_map(|(name, known)| Some((*name, (*known)?)));
        present.find(|(_, known)| known.major_opcode == opcode)
    }

    fn get_from_event_code(&self, code: u8) -> Option<(&str, ExtensionInformation)> {
        self.owner_of(code, |known| known.first_event)
    }

    fn get_from_error_code(&self, code: u8) -> Option<(&str, ExtensionInformation)> {
        self.owner_of(code, |known| known.first_error)
    }
}

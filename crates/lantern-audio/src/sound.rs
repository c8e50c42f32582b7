//! The sound server, spoken to in its own protocol, which the common servers all serve.

use std::io::{BufReader, IoSlice, Read as _};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::Duration;

use lantern_model::VolumeChange;
use pulseaudio::protocol::{
    self, AuthParams, AuthReply, ChannelVolume, Command, CommandReply, GetSinkInfo, Prop, Props,
    ProtocolError, SetClientNameReply, SetDeviceMuteParams, SetDeviceVolumeParams, SinkInfo,
    Volume,
};
use rustix::net::{SendAncillaryBuffer, SendAncillaryMessage, SendFlags, UCred, sendmsg};
use rustix::process::{getgid, getpid, getuid};

use lantern_model::OutputLevel;

use crate::AudioError;
use lantern_system::home_folder;

/// Time without data after which a server counts as gone.
const PATIENCE: Duration = Duration::from_secs(3);

/// The length of the secret that a server may ask for, in bytes.
const COOKIE: usize = 256;

/// What comes from the server while something is recorded.
pub(crate) enum Packet {
    /// Samples, as they were asked for.
    Sound(Vec<u8>),
    /// Anything else.
    Told(Box<Command>),
}

/// A connection to the sound server.
#[derive(Debug)]
pub struct SoundServer {
    socket: BufReader<UnixStream>,
    version: u16,
    sequence: u32,
}

impl SoundServer {
    /// Connects, as the environment says.
    ///
    /// # Errors
    /// When no server answers.
    pub fn connect() -> Result<SoundServer, AudioError> {
        let path = pulseaudio::socket_path_from_env().ok_or(AudioError::NoSoundServer)?;
        let socket = UnixStream::connect(path).map_err(|_| AudioError::NoSoundServer)?;
        let patience = Some(PATIENCE);
        let limited =
            socket.set_read_timeout(patience).and_then(|()| socket.set_write_timeout(patience));
        limited.map_err(|_| AudioError::NoSoundServer)?;
        let mut server = SoundServer {
            socket: BufReader::new(socket),
            version: protocol::MAX_VERSION,
            sequence: 0,
        };
        let reply = server.introduce()?;
        server.version = reply.version.min(protocol::MAX_VERSION);
        let mut about = Props::new();
        about.set(Prop::ApplicationName, c"Cold Lantern");
        let _: SetClientNameReply = server.ask(&Command::SetClientName(about))?;
        Ok(server)
    }

    /// Says who we are. Without a secret the server looks at the sender's user, which it only learns
    /// for sure when it is sent along.
    fn introduce(&mut self) -> Result<AuthReply, AudioError> {
        let cookie = cookie_path().and_then(|path| std::fs::read(path).ok());
        let cookie = cookie.filter(|cookie| cookie.len() == COOKIE).unwrap_or(vec![0; COOKIE]);
        let command = Command::Auth(AuthParams {
            version: protocol::MAX_VERSION,
            supports_shm: false,
            supports_memfd: false,
            cookie,
        });
        let mut message = Vec::new();
        protocol::write_command_message(&mut message, 0, &command, protocol::MAX_VERSION)?;
        let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmCredentials(1))];
        let mut along = SendAncillaryBuffer::new(&mut space);
        let fits = along.push(SendAncillaryMessage::ScmCredentials(UCred {
            pid: getpid(),
            uid: getuid(),
            gid: getgid(),
        }));
        debug_assert!(fits, "the space was made for it");
        let bytes = [IoSlice::new(&message)];
        let sent = sendmsg(self.socket.get_ref(), &bytes, &mut along, SendFlags::empty());
        if sent.map_err(std::io::Error::from).map_err(ProtocolError::from)? < message.len() {
            return Err(AudioError::NoSoundServer);
        }
        let (_, reply) = protocol::read_reply_message(&mut self.socket, self.version)?;
        Ok(reply)
    }

    /// What the output in use is called.
    ///
    /// # Errors
    /// When there is none, or the server broke off.
    pub fn output(&mut self) -> Result<String, AudioError> {
        let sink = self.sink()?;
        let name = sink.description.unwrap_or(sink.name);
        Ok(name.to_string_lossy().into_owned())
    }

    /// Changes how loud the output in use is, never past all; tells how loud it is then.
    ///
    /// # Errors
    /// When there is no output, or the server broke off.
    pub fn change(&mut self, change: VolumeChange, by: f64) -> Result<OutputLevel, AudioError> {
        let sink = self.sink()?;
        let before = loudest(&sink.cvolume);
        let share = match change {
            VolumeChange::Up => (before + by).min(before.max(1.0)),
            VolumeChange::Down => (before - by).max(0.0),
            VolumeChange::Set => by.clamp(0.0, 1.0),
            VolumeChange::Mute | VolumeChange::Unmute | VolumeChange::ToggleMute => before,
        };
        let muted = match change {
            VolumeChange::Mute => true,
            VolumeChange::Unmute => false,
            VolumeChange::ToggleMute => !sink.muted,
            _ => sink.muted,
        };
        let (device_index, device_name) = (Some(sink.index), None);
        if share != before {
            let volume = scaled(&sink.cvolume, share);
            self.tell(&Command::SetSinkVolume(SetDeviceVolumeParams {
                device_index,
                device_name: device_name.clone(),
                volume,
            }))?;
        }
        if muted != sink.muted {
            let params = SetDeviceMuteParams { device_index, device_name, mute: muted };
            self.tell(&Command::SetSinkMute(params))?;
        }
        Ok(OutputLevel { share, muted })
    }

    fn sink(&mut self) -> Result<SinkInfo, AudioError> {
        let name = Some(protocol::DEFAULT_SINK.to_owned());
        let found = self.ask(&Command::GetSinkInfo(GetSinkInfo { index: None, name }));
        match found {
            Err(AudioError::Sound(ProtocolError::ServerError(protocol::PulseError::NoEntity))) => {
                Err(AudioError::NoOutput)
            }
            other => other,
        }
    }

    pub(crate) fn ask<R: CommandReply>(&mut self, command: &Command) -> Result<R, AudioError> {
        self.send(command)?;
        let (_, reply) = protocol::read_reply_message(&mut self.socket, self.version)?;
        Ok(reply)
    }

    fn tell(&mut self, command: &Command) -> Result<(), AudioError> {
        self.send(command)?;
        protocol::read_ack_message(&mut self.socket)?;
        Ok(())
    }

    pub(crate) fn send(&mut self, command: &Command) -> Result<(), AudioError> {
        self.sequence += 1;
        let (socket, sequence) = (self.socket.get_mut(), self.sequence);
        protocol::write_command_message(socket, sequence, command, self.version)?;
        Ok(())
    }

    pub(crate) fn send_samples(&mut self, channel: u32, bytes: &[u8]) -> Result<(), AudioError> {
        Ok(protocol::write_memblock(self.socket.get_mut(), channel, bytes, 0)?)
    }

    /// The next message that the server sends unasked; `None` for the reply to the last request.
    pub(crate) fn next(&mut self) -> Result<Option<Command>, AudioError> {
        let (sequence, command) = protocol::read_command_message(&mut self.socket, self.version)?;
        if let Command::Error(error) = command {
            return Err(ProtocolError::ServerError(error).into());
        }
        let is_reply = matches!(command, Command::Reply) && sequence == self.sequence;
        Ok(if is_reply { None } else { Some(command) })
    }

    /// What comes next while something is recorded: sound, or something the server says.
    pub(crate) fn next_packet(&mut self) -> Result<Packet, AudioError> {
        let head = protocol::read_descriptor(&mut self.socket)?;
        let mut body = (&mut self.socket).take(head.length.into());
        if head.channel == u32::MAX {
            let (_, command) = Command::read_tag_prefixed(&mut body, self.version)?;
            return Ok(Packet::Told(Box::new(command)));
        }
        let mut bytes = Vec::with_capacity(head.length as usize);
        body.read_to_end(&mut bytes).map_err(ProtocolError::from)?;
        if bytes.len() < head.length as usize {
            return Err(AudioError::NoSoundServer);
        }
        Ok(Packet::Sound(bytes))
    }

    /// Another handle to the connection, by which it can be cut from another thread.
    pub(crate) fn cutter(&self) -> Result<UnixStream, AudioError> {
        self.socket.get_ref().try_clone().map_err(|error| ProtocolError::from(error).into())
    }

    /// Waits as long as it takes from now on: a sound may be long.
    pub(crate) fn wait_for_ever(&self) {
        // Without it a pause of the server would end the sound, no worse.
        let _ = self.socket.get_ref().set_read_timeout(None);
    }
}

/// Where the server keeps the secret that its users share.
fn cookie_path() -> Option<PathBuf> {
    let config = home_folder("XDG_CONFIG_HOME", ".config");
    let own = config.map(|folder| folder.join("pulse/cookie")).filter(|path| path.is_file());
    own.or_else(pulseaudio::cookie_path_from_env)
}

/// The share of the loudest channel. What a server rounded is taken for the whole percent that it
/// was, so that many small steps go astray by nothing.
fn loudest(volume: &ChannelVolume) -> f64 {
    let raw = volume.channels().iter().map(Volume::as_u32).max().unwrap_or(0);
    let percent = (f64::from(raw) * 100.0 / full()).round();
    if raw.abs_diff(raw_of(percent / 100.0)) <= 1 {
        percent / 100.0
    } else {
        f64::from(raw) / full()
    }
}

/// The same balance between the channels, with the loudest at `share`.
fn scaled(volume: &ChannelVolume, share: f64) -> ChannelVolume {
    let raws = volume.channels().iter().map(Volume::as_u32);
    let most = raws.clone().max().unwrap_or(0);
    let mut scaled = ChannelVolume::empty();
    for raw in raws {
        let part = if most == 0 { 1.0 } else { f64::from(raw) / f64::from(most) };
        scaled.push(Volume::from_u32_clamped(raw_of(share * part)));
    }
    scaled
}

fn full() -> f64 {
    f64::from(Volume::NORM.as_u32())
}

fn raw_of(share: f64) -> u32 {
    (share * full()).round() as u32
}

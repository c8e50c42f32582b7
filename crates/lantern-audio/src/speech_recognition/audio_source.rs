//! Where sound comes from: the sound server's microphone, a file, or raw standard input. Each gives
//! 16,000 samples a second of one channel, whatever it was.

use std::ffi::CString;
use std::io::Read;
use std::path::Path;

use lantern_speech::RATE;
use pulseaudio::protocol::stream::{BufferAttr, StreamFlags};
use pulseaudio::protocol::{
    self, ChannelMap, ChannelVolume, Command, CreateRecordStreamReply, GetSourceInfo,
    RecordStreamParams, SampleFormat, SampleSpec, SourceInfo,
};
use rubato::audioadapter_buffers::direct::InterleavedSlice;
use rubato::{Fft, FixedSync, Resampler};

use crate::AudioError;
use crate::sound::{Packet, SoundServer};
use crate::sound_file::SoundFile;

/// Samples that are asked for at a time: a twentieth of a second.
const PIECE: usize = RATE / 20;

/// A source of sound.
pub struct AudioSource(AudioSourceKind);

enum AudioSourceKind {
    Microphone(SoundServer),
    File(Box<Recording>),
    Raw(Box<dyn Read + Send>),
}

impl std::fmt::Debug for AudioSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match &self.0 {
            AudioSourceKind::Microphone(_) => "Microphone",
            AudioSourceKind::File(_) => "File",
            AudioSourceKind::Raw(_) => "Raw",
        })
    }
}

impl AudioSource {
    /// The microphone whose name or description contains `named`; the one in use if that is empty.
    ///
    /// # Errors
    /// When there is no sound server or no such microphone.
    pub fn microphone(named: &str) -> Result<AudioSource, AudioError> {
        let mut server = SoundServer::connect()?;
        let source_name = match named {
            "" => Some(protocol::DEFAULT_SOURCE.to_owned()),
            named => Some(server.source_named(named)?),
        };
        let reply: Result<CreateRecordStreamReply, _> =
            server.ask(&Command::CreateRecordStream(RecordStreamParams {
                sample_spec: SampleSpec {
                    format: SampleFormat::S16Le,
                    channels: 1,
                    sample_rate: RATE as u32,
                },
                channel_map: ChannelMap::mono(),
                source_name,
                buffer_attr: BufferAttr {
                    fragment_size: (PIECE * size_of::<i16>()) as u32,
                    ..BufferAttr::default()
                },
                flags: StreamFlags { adjust_latency: true, ..StreamFlags::default() },
                cvolume: Some(ChannelVolume::norm(1)),
                ..RecordStreamParams::default()
            }));
        match reply {
            Err(AudioError::Sound(protocol::ProtocolError::ServerError(
                protocol::PulseError::NoEntity,
            ))) => return Err(no_microphone(named)),
            other => other?,
        };
        Ok(AudioSource(AudioSourceKind::Microphone(server)))
    }

    /// A sound file.
    ///
    /// # Errors
    /// When it cannot be read, or is no sound.
    pub fn file(path: &Path) -> Result<AudioSource, AudioError> {
        let sound = SoundFile::open(path)?;
        let rate = sound.rate as usize;
        let resampler = (rate != RATE)
            .then(|| Fft::new(rate, RATE, 1024, 1, FixedSync::Both))
            .transpose()
            .map_err(|_| AudioError::SpeechRefused { what: "the sound's rate" })?;
        Ok(AudioSource(AudioSourceKind::File(Box::new(Recording { sound, resampler, rest: 0 }))))
    }

    /// Raw samples: 16 bits each, little end first, 16,000 a second, one channel.
    pub fn raw(from: impl Read + Send + 'static) -> AudioSource {
        AudioSource(AudioSourceKind::Raw(Box::new(from)))
    }

    /// The next piece of sound; waits for it. Nothing at the end.
    ///
    /// # Errors
    /// When the source breaks off.
    pub fn read(&mut self) -> Result<Option<Vec<i16>>, AudioError> {
        match &mut self.0 {
            AudioSourceKind::Microphone(server) => server.next_samples().map(Some),
            AudioSourceKind::File(recording) => recording.read(),
            AudioSourceKind::Raw(from) => {
                let mut bytes = Vec::with_capacity(2 * PIECE);
                let read = from.take(2 * PIECE as u64).read_to_end(&mut bytes);
                let failed = |source| AudioError::SoundFile { path: "-".into(), source };
                read.map_err(failed)?;
                Ok((!bytes.is_empty()).then(|| samples_of(&bytes)))
            }
        }
    }
}

/// A sound file on its way to 16,000 samples a second.
struct Recording {
    sound: SoundFile,
    resampler: Option<Fft<f32>>,
    /// Samples that the resampler still holds back at the end.
    rest: usize,
}

impl Recording {
    fn read(&mut self) -> Result<Option<Vec<i16>>, AudioError> {
        let channels = usize::from(self.sound.channels);
        let frames =
            self.resampler.as_ref().map_or(PIECE, |resampler| resampler.input_frames_next());
        let samples = self.sound.next_samples(frames * channels)?;
        let mix = |frame: &[f32]| frame.iter().sum::<f32>() / frame.len() as f32;
        let mut mono: Vec<f32> = samples.chunks(channels).map(mix).collect();
        if let Some(resampler) = &mut self.resampler {
            if mono.is_empty() && self.rest == 0 {
                return Ok(None);
            }
            // Silence behind the end brings out what it holds back.
            self.rest = if mono.is_empty() { 0 } else { resampler.output_delay() };
            mono.resize(frames, 0.0);
            let refused = AudioError::SpeechRefused { what: "the sound's rate" };
            let input = InterleavedSlice::new(&mono, 1, frames);
            let output = input.ok().and_then(|input| resampler.process(&input, None).ok());
            mono = output.ok_or(refused)?.take_data();
        }
        let whole = |sample: f32| (sample * 32_767.0).round().clamp(-32_768.0, 32_767.0) as i16;
        Ok((!mono.is_empty()).then(|| mono.into_iter().map(whole).collect()))
    }
}

fn samples_of(bytes: &[u8]) -> Vec<i16> {
    bytes.chunks_exact(2).map(|pair| i16::from_le_bytes([pair[0], pair[1]])).collect()
}

fn no_microphone(named: &str) -> AudioError {
    let named = if named.is_empty() { String::new() } else { format!(" called \"{named}\"") };
    AudioError::NoMicrophone { named }
}

impl SoundServer {
    /// The name of the source whose name or description contains `part`, case-blind.
    fn source_named(&mut self, part: &str) -> Result<CString, AudioError> {
        let part_lower = part.to_lowercase();
        let sources: Vec<SourceInfo> = self.ask(&Command::GetSourceInfoList)?;
        let is_it = |source: &SourceInfo| {
            let description = source.description.as_ref().map(|text| text.to_string_lossy());
            let texts = [source.name.to_string_lossy(), description.unwrap_or_default()];
            texts.iter().any(|text| text.to_lowercase().contains(&part_lower))
        };
        let found = sources.into_iter().find(is_it);
        found.map(|source| source.name).ok_or_else(|| no_microphone(part))
    }

    /// What the microphone in use is called.
    ///
    /// # Errors
    /// When there is none, or the server broke off.
    pub fn microphone(&mut self) -> Result<String, AudioError> {
        let name = Some(protocol::DEFAULT_SOURCE.to_owned());
        let ask = Command::GetSourceInfo(GetSourceInfo { index: None, name });
        let source: SourceInfo = self.ask(&ask).map_err(|_| no_microphone(""))?;
        let name = source.description.unwrap_or(source.name);
        Ok(name.to_string_lossy().into_owned())
    }

    /// The next samples of the stream that records; waits for them.
    fn next_samples(&mut self) -> Result<Vec<i16>, AudioError> {
        loop {
            match self.next_packet()? {
                Packet::Sound(bytes) if !bytes.is_empty() => return Ok(samples_of(&bytes)),
                Packet::Told(told) if matches!(*told, Command::RecordStreamKilled(_)) => {
                    return Err(no_microphone(""));
                }
                Packet::Sound(_) | Packet::Told(_) => {}
            }
        }
    }
}

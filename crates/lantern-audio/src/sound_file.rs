//! A sound in a file, decoded piece by piece: WAV, FLAC, Ogg Vorbis and MP3. For who plays it and who
//! listens to it.

use std::path::{Path, PathBuf};

use symphonia::core::audio::GenericAudioBufferRef;
use symphonia::core::codecs::audio::{AudioDecoder, AudioDecoderOptions};
use symphonia::core::errors::Error;
use symphonia::core::formats::probe::Hint;
use symphonia::core::formats::{FormatOptions, FormatReader, TrackType};
use symphonia::core::io::MediaSourceStream;
use symphonia::core::meta::MetadataOptions;

use crate::AudioError;
use lantern_system::open_regular;

/// A sound being decoded.
pub(crate) struct SoundFile {
    path: PathBuf,
    reader: Box<dyn FormatReader>,
    decoder: Box<dyn AudioDecoder>,
    track: u32,
    pub(crate) channels: u8,
    pub(crate) rate: u32,
    /// Decoded and not played yet, channels in turn.
    ahead: Vec<f32>,
}

impl SoundFile {
    pub(crate) fn open(path: &Path) -> Result<SoundFile, AudioError> {
        let file = open_regular(path)
            .map_err(|source| AudioError::SoundFile { path: path.to_owned(), source })?;
        let wrong =
            |source| AudioError::NotASound { path: path.to_owned(), source: Box::new(source) };
        let stream = MediaSourceStream::new(Box::new(file), Default::default());
        let mut hint = Hint::new();
        if let Some(ending) = path.extension().and_then(|ending| ending.to_str()) {
            hint.with_extension(ending);
        }
        let (format, meta) = (FormatOptions::default(), MetadataOptions::default());
        let reader =
            symphonia::default::get_probe().probe(&hint, stream, format, meta).map_err(wrong)?;
        let none = || wrong(Error::Unsupported("it holds no sound"));
        let track = reader.default_track(TrackType::Audio).ok_or_else(none)?;
        let coded = track.codec_params.as_ref().and_then(|params| params.audio());
        let decoder = symphonia::default::get_codecs()
            .make_audio_decoder(coded.ok_or_else(none)?, &AudioDecoderOptions::default())
            .map_err(wrong)?;
        let track = track.id;
        let path = path.to_owned();
        let mut sound =
            SoundFile { path, reader, decoder, track, channels: 0, rate: 0, ahead: Vec::new() };
        // The first piece says what all are like.
        if !sound.decode_more()? {
            return Err(AudioError::NotASound {
                path: sound.path,
                source: Box::new(Error::Unsupported("it is empty")),
            });
        }
        Ok(sound)
    }

    /// At most so many bytes, whole frames; none at the end.
    pub(crate) fn next_bytes(&mut self, most: usize) -> Result<Vec<u8>, AudioError> {
        let samples = self.next_samples(most / size_of::<f32>())?;
        Ok(samples.into_iter().flat_map(f32::to_le_bytes).collect())
    }

    /// At most so many samples, channels in turn, whole frames; none at the end.
    pub(crate) fn next_samples(&mut self, most: usize) -> Result<Vec<f32>, AudioError> {
        let frame = usize::from(self.channels);
        let count = most.max(frame) / frame * frame;
        while self.ahead.len() < count && self.decode_more()? {}
        let count = count.min(self.ahead.len());
        Ok(self.ahead.drain(..count).collect())
    }

    /// Decodes the next piece; whether there was one.
    fn decode_more(&mut self) -> Result<bool, AudioError> {
        let wrong = |path: &Path, source| AudioError::NotASound {
            path: path.to_owned(),
            source: Box::new(source),
        };
        loop {
            let packet = match self.reader.next_packet() {
                Ok(Some(packet)) => packet,
                // Another stream behind the first is not this sound.
                Ok(None) | Err(Error::ResetRequired) => return Ok(false),
                Err(Error::IoError(error)) if error.kind() == std::io::ErrorKind::UnexpectedEof => {
                    return Ok(false);
                }
                Err(error) => return Err(wrong(&self.path, error)),
            };
            if packet.track_id != self.track {
                continue;
            }
            match self.decoder.decode(&packet) {
                Ok(piece) => {
                    let rate = piece.spec().rate();
                    let samples = at_most_two_channels(&piece);
                    let channels = piece.num_planes().min(2) as u8;
                    if samples.is_empty() {
                        continue;
                    }
                    if self.channels == 0 {
                        (self.channels, self.rate) = (channels, rate);
                    }
                    if (channels, rate) == (self.channels, self.rate) {
                        self.ahead.extend(samples);
                        return Ok(true);
                    }
                }
                // One broken piece is left out.
                Err(Error::DecodeError(_)) => {}
                Err(error) => return Err(wrong(&self.path, error)),
            }
        }
    }
}

/// The piece's samples, channels in turn; of more than two channels the first two.
fn at_most_two_channels(piece: &GenericAudioBufferRef<'_>) -> Vec<f32> {
    let mut samples = vec![0.0; piece.samples_interleaved()];
    piece.copy_to_slice_interleaved(&mut samples);
    let channels = piece.num_planes();
    if channels <= 2 {
        return samples;
    }
    samples.chunks(channels).flat_map(|frame| frame[..2].to_vec()).collect()
}

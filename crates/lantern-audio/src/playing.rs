//! Playing a sound: the file is decoded piece by piece, as the server asks for more.

use pulseaudio::protocol::{
    self, ChannelMap, ChannelVolume, Command, CreatePlaybackStreamReply, PlaybackStreamParams,
    Request, SampleFormat, SampleSpec,
};

use crate::AudioError;
use crate::sound::SoundServer;
use crate::sound_file::SoundFile;
use lantern_system::StopHandle;
use lantern_system::home_path;

/// Plays the file to its end, or until it is stopped.
pub fn play(path: &str, stop: &StopHandle) -> Result<(), AudioError> {
    let mut sound = SoundFile::open(&home_path(path))?;
    let mut server = SoundServer::connect()?;
    let cutter = server.cutter()?;
    stop.by(move || {
        // Fails only when it is cut already.
        let _ = cutter.shutdown(std::net::Shutdown::Both);
    });
    let played = stream(&mut server, &mut sound);
    if stop.is_wanted() { Err(AudioError::Stopped) } else { played }
}

fn stream(server: &mut SoundServer, sound: &mut SoundFile) -> Result<(), AudioError> {
    let reply: CreatePlaybackStreamReply =
        server.ask(&Command::CreatePlaybackStream(PlaybackStreamParams {
            sample_spec: SampleSpec {
                format: SampleFormat::Float32Le,
                channels: sound.channels,
                sample_rate: sound.rate,
            },
            channel_map: match sound.channels {
                1 => ChannelMap::mono(),
                _ => ChannelMap::stereo(),
            },
            cvolume: Some(ChannelVolume::norm(sound.channels)),
            sink_name: Some(protocol::DEFAULT_SINK.to_owned()),
            ..PlaybackStreamParams::default()
        }))?;
    server.wait_for_ever();
    let mut wanted = reply.requested_bytes as usize;
    loop {
        let bytes = sound.next_bytes(wanted)?;
        if bytes.is_empty() {
            break;
        }
        server.send_samples(reply.channel, &bytes)?;
        wanted = wanted.saturating_sub(bytes.len());
        while wanted == 0 {
            if let Some(Command::Request(Request { length, .. })) = server.next()? {
                wanted += length as usize;
            }
        }
    }
    server.send(&Command::DrainPlaybackStream(reply.channel))?;
    while server.next()?.is_some() {}
    Ok(())
}

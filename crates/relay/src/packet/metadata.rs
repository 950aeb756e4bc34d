//! What a broadcaster's metadata says of its stream.

use moth_core::rate::Bitrate;
use moth_core::reading::StreamFacts;
use moth_rtmp::amf0::{self, Value};
use moth_rtmp::media::AudioCodec;

use super::sighting::audio_codec;

/// Reads `onMetaData`; what it does not say, or says in another type, stays unknown.
pub(crate) fn stream_facts(payload: &[u8]) -> Option<StreamFacts> {
    let values = amf0::decode_all(payload).ok()?;
    let object = values.iter().find(|v| matches!(v, Value::Object(_)))?;
    let number = |name: &str| object.get(name).and_then(Value::as_number).filter(|n| n.is_finite() && *n > 0.0);
    let whole = |name: &str| number(name).filter(|n| *n < 100_000.0).map(|n| n.round() as u32);
    let kbps =
        |name: &str| number(name).filter(|n| *n < 10_000_000.0).map(|n| Bitrate::from_bps((n * 1000.0).round() as u64));
    Some(StreamFacts {
        width: whole("width"),
        height: whole("height"),
        fps: number("framerate").filter(|n| *n <= 1000.0),
        video_bitrate: kbps("videodatarate"),
        audio_bitrate: kbps("audiodatarate"),
        audio_codec: object.get("audiocodecid").and_then(codec_named).map(audio_codec),
        ..StreamFacts::default()
    })
}

/// An audio codec as metadata names one: by the sound format of FLV, or by a FourCC, as text or, in Enhanced RTMP, as a number.
fn codec_named(id: &Value) -> Option<AudioCodec> {
    match id {
        Value::Text(text) => Some(AudioCodec::of_fourcc(text.as_bytes())),
        Value::Number(n) if (0.0..16.0).contains(n) => Some(AudioCodec::of_format(*n as u8)),
        Value::Number(n) if (0.0..=f64::from(u32::MAX)).contains(n) => {
            Some(AudioCodec::of_fourcc(&(*n as u32).to_be_bytes()))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::BytesMut;
    use moth_core::reading::AudioCodec as Known;

    fn encoded(values: &[Value]) -> BytesMut {
        let mut out = BytesMut::new();
        values.iter().for_each(|v| v.encode(&mut out));
        out
    }

    #[test]
    fn size_rate_and_bitrates_are_found() {
        let object = amf0::object([
            ("width", 1280.0.into()),
            ("height", 720.0.into()),
            ("framerate", 59.94.into()),
            ("videodatarate", 4500.5.into()),
            ("audiodatarate", "160".into()),
        ]);
        let facts = stream_facts(&encoded(&["@setDataFrame".into(), "onMetaData".into(), object])).unwrap();
        assert_eq!((facts.width, facts.height, facts.fps), (Some(1280), Some(720), Some(59.94)));
        assert_eq!(facts.video_bitrate, Some(Bitrate::from_bps(4_500_500)));
        assert_eq!(facts.audio_bitrate, None);
    }

    #[test]
    fn the_sounds_codec_has_a_number_a_name_or_a_name_as_a_number() {
        let codec = |id: Value| {
            let object = amf0::object([("audiocodecid", id)]);
            stream_facts(&encoded(&["onMetaData".into(), object])).unwrap().audio_codec
        };
        assert_eq!(codec(2.0.into()), Some(Known::Mp3));
        assert_eq!(codec(10.0.into()), Some(Known::Aac));
        assert_eq!(codec("mp4a".into()), Some(Known::Aac));
        assert_eq!(codec(f64::from(u32::from_be_bytes(*b"Opus")).into()), Some(Known::Opus));
        assert_eq!(codec((-1.0).into()), None);
    }

    #[test]
    fn nonsense_is_unknown() {
        assert_eq!(stream_facts(b"\x11garbage"), None);
        let object = amf0::object([("framerate", f64::NAN.into()), ("width", (-3.0).into()), ("height", 1e12.into())]);
        assert_eq!(stream_facts(&encoded(&["onMetaData".into(), object])), Some(StreamFacts::default()));
    }
}

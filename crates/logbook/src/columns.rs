//! Seconds, packed: a column for each figure, deflated.
//!
//! A stretch is a line of JSON that names its columns, and then for each of them the lowest bytes of all its values, the next bytes,
//! and so on: those that hardly change lie together, which deflates best. A value is four bytes: a number's bits, and all ones where it
//! was not known. A column that a reader does not know is passed over; one that is not there was not known.

use std::io::{Read, Write};

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use moth_core::State;
use moth_core::history::Second;
use moth_core::wire::Heard;
use moth_evening::load::Load;
use serde::{Deserialize, Serialize};

/// What was not known.
const UNKNOWN: u32 = u32::MAX;
/// More seconds than these make no stretch, nor more columns. Ours: bounds against what is damaged.
const MOST: usize = 100_000;
const MOST_COLUMNS: usize = 1000;

/// Gives a figure, and takes it.
pub(crate) type Column<T> = (&'static str, fn(&T) -> u32, fn(&mut T, u32));

fn of_float(value: Option<f32>) -> u32 {
    value.map_or(UNKNOWN, f32::to_bits)
}

/// A measured figure, if it was known.
pub(crate) fn float(bits: u32) -> Option<f32> {
    (bits != UNKNOWN).then(|| f32::from_bits(bits))
}

fn of_count(value: Option<u32>) -> u32 {
    value.unwrap_or(UNKNOWN)
}

fn count(bits: u32) -> Option<u32> {
    (bits != UNKNOWN).then_some(bits)
}

const STATES: [State; 4] = [State::Steady, State::Strained, State::Losing, State::Dark];

/// Where a word stands among those there are.
fn place<T: PartialEq>(all: &[T], word: Option<T>) -> u32 {
    word.and_then(|word| all.iter().position(|known| *known == word)).map_or(UNKNOWN, |at| at as u32)
}

macro_rules! column {
    ($name:literal, $field:ident, $of:ident, $to:ident) => {
        ($name, |from| $of(from.$field), |to, bits| to.$field = $to(bits))
    };
}

/// A second's.
const SECOND: &[Column<Second>] = &[
    ("state", |s| place(&STATES, s.state), |s, bits| s.state = STATES.get(bits as usize).copied()),
    column!("asked_kbps", asked_kbps, of_float, float),
    column!("sent_kbps", sent_kbps, of_float, float),
    column!("queue_ms", queue_ms, of_float, float),
    column!("rtt_ms", rtt_ms, of_float, float),
    column!("due", due, of_count, count),
    column!("frozen_ms", frozen_ms, of_count, count),
    column!("dropped", dropped, of_count, count),
    column!("skipped", skipped, of_count, count),
    column!("lagged", lagged, of_count, count),
    column!("cpu", cpu, of_float, float),
    column!("gpu", gpu, of_float, float),
    column!("gpu_encode", gpu_encode, of_float, float),
    column!("other_cpu", other_cpu, of_float, float),
    column!("render_ms", render_ms, of_float, float),
    column!("encode_ms", encode_ms, of_float, float),
    column!("behind_ms", behind_ms, of_float, float),
    column!("uploads_kbps", uploads_kbps, of_float, float),
    column!("gateway_ms", gateway_ms, of_float, float),
    column!("other_ms", other_ms, of_float, float),
    column!("receiver_limited", receiver_limited, of_float, float),
    column!("frequency", frequency, of_float, float),
    column!("disk_write_ms", disk_write_ms, of_float, float),
    ("sound", |s| place(&Heard::ALL, s.sound), |s, bits| s.sound = Heard::ALL.get(bits as usize).copied()),
];

macro_rules! part {
    ($name:literal, $program:literal, $field:ident) => {
        [
            (
                $program,
                |load: &Load| load.$field.map_or(UNKNOWN, |(program, _)| program.into()),
                |load: &mut Load, bits: u32| load.$field = u16::try_from(bits).ok().map(|program| (program, 0.0)),
            ),
            (
                $name,
                |load: &Load| load.$field.map_or(UNKNOWN, |(_, share)| share.to_bits()),
                |load: &mut Load, bits: u32| {
                    if let (Some((_, share)), Some(known)) = (&mut load.$field, float(bits)) {
                        *share = known;
                    }
                },
            ),
        ]
    };
}

/// A machine's load; where a program is named, its share follows.
const LOAD: &[Column<Load>] = &[
    column!("cpu", cpu, of_float, float),
    column!("cpu_broadcaster", cpu_broadcaster, of_float, float),
    column!("gpu", gpu, of_float, float),
    column!("encode", encode, of_float, float),
    column!("uploads_kbps", uploads_kbps, of_float, float),
    column!("disk_write_ms", disk_write_ms, of_float, float),
];
const PARTS: [[Column<Load>; 2]; 4] = [
    part!("cpu_other", "cpu_other_program", cpu_other),
    part!("gpu_other", "gpu_other_program", gpu_other),
    part!("encode_other", "encode_other_program", encode_other),
    part!("upload", "upload_program", upload),
];

/// Those of a second that are measured, and not counted.
pub(crate) fn measured() -> impl Iterator<Item = &'static Column<Second>> {
    const COUNTED: [&str; 7] = ["state", "due", "frozen_ms", "dropped", "skipped", "lagged", "sound"];
    SECOND.iter().filter(|(name, ..)| !COUNTED.contains(name))
}

/// Those of a load that are measured, and name no program.
pub(crate) fn loads() -> impl Iterator<Item = &'static Column<Load>> {
    LOAD.iter()
}

fn load_columns() -> impl Iterator<Item = &'static Column<Load>> {
    LOAD.iter().chain(PARTS.iter().flatten())
}

#[derive(Debug, Serialize, Deserialize)]
struct Header {
    seconds: usize,
    columns: Vec<String>,
}

/// Seconds and what each machine bore in them, in their order.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Stretch {
    /// The seconds.
    pub seconds: Vec<Second>,
    /// For each machine as many.
    pub machines: Vec<Vec<Load>>,
}

/// Packs seconds. A machine with fewer loads than seconds bore nothing that is known in the rest.
#[must_use]
pub fn pack(seconds: &[Second], machines: &[&[Load]]) -> Vec<u8> {
    let mut columns: Vec<(String, Vec<u32>)> = Vec::new();
    for (name, get, _) in SECOND {
        columns.push(((*name).into(), seconds.iter().map(get).collect()));
    }
    for (n, loads) in machines.iter().enumerate() {
        for (name, get, _) in load_columns() {
            let value = |at: usize| loads.get(at).map_or(UNKNOWN, get);
            columns.push((format!("{n}.{name}"), (0..seconds.len()).map(value).collect()));
        }
    }
    columns.retain(|(_, values)| values.iter().any(|value| *value != UNKNOWN));
    let header = Header { seconds: seconds.len(), columns: columns.iter().map(|(name, _)| name.clone()).collect() };
    // Put together first: each write to a deflater costs as much as many bytes do.
    let mut plain = Vec::new();
    // Into memory, and of plain words and numbers: it cannot fail.
    let _ = serde_json::to_writer(&mut plain, &header);
    plain.push(b'\n');
    for (_, values) in &columns {
        for byte in 0..4 {
            plain.extend(values.iter().map(|value| value.to_le_bytes()[byte]));
        }
    }
    let mut packed = DeflateEncoder::new(Vec::new(), Compression::default());
    let _ = packed.write_all(&plain);
    packed.finish().unwrap_or_default()
}

/// Unpacks seconds; `None` if that makes no sense.
#[must_use]
pub fn unpack(packed: &[u8]) -> Option<Stretch> {
    let mut bytes = Vec::new();
    let longest = (MOST * MOST_COLUMNS * 4) as u64;
    DeflateDecoder::new(packed).take(longest).read_to_end(&mut bytes).ok()?;
    let line = bytes.iter().position(|byte| *byte == b'\n')?;
    let header: Header = serde_json::from_slice(&bytes[..line]).ok()?;
    let many = header.seconds;
    if many == 0 || many > MOST || header.columns.len() > MOST_COLUMNS {
        return None;
    }
    let mut planes = bytes[line + 1..].chunks_exact(4 * many);
    if planes.len() != header.columns.len() || !planes.remainder().is_empty() {
        return None;
    }
    let mut stretch = Stretch { seconds: vec![Second::default(); many], machines: Vec::new() };
    for name in &header.columns {
        let planes = planes.next()?;
        let value = |at: usize| u32::from_le_bytes([0, 1, 2, 3].map(|byte| planes[byte * many + at]));
        let Some((machine, figure)) = name.split_once('.') else {
            if let Some((_, _, set)) = SECOND.iter().find(|(known, ..)| known == name) {
                stretch.seconds.iter_mut().enumerate().for_each(|(at, second)| set(second, value(at)));
            }
            continue;
        };
        let machine: usize = machine.parse().ok().filter(|machine| *machine < MOST_COLUMNS)?;
        if stretch.machines.len() <= machine {
            stretch.machines.resize(machine + 1, vec![Load::default(); many]);
        }
        if let Some((_, _, set)) = load_columns().find(|(known, ..)| *known == figure) {
            stretch.machines[machine].iter_mut().enumerate().for_each(|(at, load)| set(load, value(at)));
        }
    }
    Some(stretch)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn float() -> impl Strategy<Value = Option<f32>> {
        prop_oneof![Just(None), (-1e6_f32..1e6).prop_map(Some)]
    }

    prop_compose! {
        /// Every figure of it by its name in JSON: one that has no column would be lost.
        fn second()(values in prop::collection::vec(float(), 25), state in 0..5_usize, sound in 0..5_usize) -> Second {
            let serde_json::Value::Object(mut fields) = serde_json::to_value(Second::default()).unwrap() else { panic!() };
            for ((name, field), value) in fields.iter_mut().zip(&values) {
                let is_count = ["due", "frozen_ms", "dropped", "skipped", "lagged"].contains(&name.as_str());
                *field = match value {
                    None => serde_json::Value::Null,
                    Some(value) if is_count => (value.abs() as u32).into(),
                    Some(value) => serde_json::json!(*value),
                };
            }
            fields["state"] = serde_json::to_value(STATES.get(state)).unwrap();
            fields["sound"] = serde_json::to_value(Heard::ALL.get(sound)).unwrap();
            serde_json::from_value(fields.into()).unwrap()
        }
    }

    prop_compose! {
        fn load()(values in prop::collection::vec(float(), 10), program in 0..u16::MAX) -> Load {
            let part = |value: Option<f32>| value.map(|share| (program, share));
            Load {
                cpu: values[0], cpu_broadcaster: values[1], cpu_other: part(values[2]), gpu: values[3],
                gpu_other: part(values[4]), encode: values[5], encode_other: part(values[6]),
                uploads_kbps: values[7], upload: part(values[8]), disk_write_ms: values[9],
            }
        }
    }

    proptest! {
        #[test]
        fn what_is_packed_is_what_is_unpacked(
            seconds in prop::collection::vec(second(), 1..40), loads in prop::collection::vec(load(), 1..40)
        ) {
            let back = unpack(&pack(&seconds, &[&loads, &[]])).unwrap();
            prop_assert_eq!(&back.seconds, &seconds);
            let none = Load::default();
            for at in 0..seconds.len() {
                let known = back.machines.first().map_or(&none, |loads| &loads[at]);
                prop_assert_eq!(known, loads.get(at).unwrap_or(&none));
            }
        }

        #[test]
        fn bytes_from_anywhere_make_nothing_or_seconds(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = unpack(&bytes);
            let mut packed = pack(&[Second::default(); 3], &[]);
            packed.extend(&bytes);
            let _ = unpack(&packed);
        }
    }

    #[test]
    fn a_column_of_a_newer_moth_is_passed_over() {
        let mut packed = DeflateEncoder::new(Vec::new(), Compression::default());
        packed.write_all(b"{\"seconds\":1,\"columns\":[\"moonlight\",\"due\",\"0.tides\"]}\n").unwrap();
        packed.write_all(&[7, 0, 0, 0, 60, 0, 0, 0, 9, 0, 0, 0]).unwrap();
        let stretch = unpack(&packed.finish().unwrap()).unwrap();
        assert_eq!(stretch.seconds, [Second { due: Some(60), ..Second::default() }]);
    }
}

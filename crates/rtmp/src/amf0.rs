//! Action Message Format 0 (Adobe, 2007): the values that commands carry.
//!
//! Only what commands use is decoded; references, typed objects and XML are refused by name. Depth and
//! the number of values are bounded, so that a hostile message costs neither the stack nor the heap.

use bytes::{BufMut, BytesMut};

/// Objects and arrays may nest this deep; real commands nest once or twice. Ours.
pub const MAX_DEPTH: usize = 16;
/// The most values one message may hold; a real `connect` holds about twenty. Ours.
pub const MAX_VALUES: usize = 4096;

/// One AMF0 value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// An IEEE 754 double.
    Number(f64),
    /// True or false.
    Boolean(bool),
    /// UTF-8 text; bytes that are not UTF-8 were replaced.
    Text(String),
    /// Names and values in the order sent; also an ECMA array, whose count is only a hint.
    Object(Vec<(String, Value)>),
    /// Nothing, sent on purpose.
    Null,
    /// Undefined, or a member some peers send as "unsupported".
    Undefined,
    /// Values without names.
    Array(Vec<Value>),
    /// Milliseconds since 1 January 1970 UTC; the time zone field is reserved and ignored.
    Date(f64),
}

/// Why bytes are not AMF0 that a command may carry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Amf0Error {
    /// The bytes end inside a value.
    #[error("the command ends inside a value")]
    Truncated,
    /// A marker this reader does not take.
    #[error("the command holds a value of type {0:#04x}, which is not taken here")]
    Marker(u8),
    /// Nested over [`MAX_DEPTH`].
    #[error("the command nests objects deeper than {MAX_DEPTH}")]
    TooDeep,
    /// Over [`MAX_VALUES`].
    #[error("the command holds more than {MAX_VALUES} values")]
    TooMany,
}

impl Value {
    /// The text, if it is one.
    #[must_use]
    pub fn as_text(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }

    /// The number, if it is one.
    #[must_use]
    pub fn as_number(&self) -> Option<f64> {
        if let Self::Number(number) = self { Some(*number) } else { None }
    }

    /// A member of an object by name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&Self> {
        let Self::Object(members) = self else { return None };
        members.iter().find(|(n, _)| n == name).map(|(_, value)| value)
    }

    /// Appends the value's bytes.
    pub fn encode(&self, out: &mut BytesMut) {
        match self {
            Self::Number(number) => {
                out.put_u8(0x00);
                out.put_f64(*number);
            }
            Self::Boolean(truth) => {
                out.put_u8(0x01);
                out.put_u8(u8::from(*truth));
            }
            Self::Text(text) => {
                if let Ok(length) = u16::try_from(text.len()) {
                    out.put_u8(0x02);
                    out.put_u16(length);
                } else {
                    out.put_u8(0x0c);
                    out.put_u32(u32::try_from(text.len()).unwrap_or(u32::MAX));
                }
                out.put_slice(text.as_bytes());
            }
            Self::Object(members) => {
                out.put_u8(0x03);
                for (name, value) in members {
                    let name = &name.as_bytes()[..name.len().min(usize::from(u16::MAX))];
                    out.put_u16(u16::try_from(name.len()).unwrap_or(u16::MAX));
                    out.put_slice(name);
                    value.encode(out);
                }
                out.put_slice(&[0, 0, 9]);
            }
            Self::Null => out.put_u8(0x05),
            Self::Undefined => out.put_u8(0x06),
            Self::Array(values) => {
                out.put_u8(0x0a);
                out.put_u32(u32::try_from(values.len()).unwrap_or(u32::MAX));
                for value in values {
                    value.encode(out);
                }
            }
            Self::Date(ms) => {
                out.put_u8(0x0b);
                out.put_f64(*ms);
                out.put_u16(0);
            }
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}

/// An object from pairs of name and value.
#[must_use]
pub fn object<const N: usize>(members: [(&str, Value); N]) -> Value {
    Value::Object(members.into_iter().map(|(name, value)| (name.to_owned(), value)).collect())
}

/// Every value in `bytes`, to its end.
///
/// # Errors
/// [`Amf0Error`] at the first value that cannot be read.
pub fn decode_all(bytes: &[u8]) -> Result<Vec<Value>, Amf0Error> {
    let mut reader = Reader { rest: bytes, left: MAX_VALUES };
    let mut values = Vec::new();
    while !reader.rest.is_empty() {
        values.push(reader.value(0)?);
    }
    Ok(values)
}

struct Reader<'a> {
    rest: &'a [u8],
    /// How many more values this message may hold.
    left: usize,
}

impl<'a> Reader<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], Amf0Error> {
        let (taken, rest) = self.rest.split_at_checked(count).ok_or(Amf0Error::Truncated)?;
        self.rest = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Amf0Error> {
        self.take(N)?.try_into().map_err(|_| Amf0Error::Truncated)
    }

    fn text(&mut self, length: usize) -> Result<String, Amf0Error> {
        Ok(String::from_utf8_lossy(self.take(length)?).into_owned())
    }

    fn value(&mut self, depth: usize) -> Result<Value, Amf0Error> {
        if depth > MAX_DEPTH {
            return Err(Amf0Error::TooDeep);
        }
        self.left = self.left.checked_sub(1).ok_or(Amf0Error::TooMany)?;
        let [marker] = self.array()?;
        Ok(match marker {
            0x00 => Value::Number(f64::from_be_bytes(self.array()?)),
            0x01 => Value::Boolean(self.array::<1>()? != [0]),
            0x02 => {
                let length = u16::from_be_bytes(self.array()?);
                Value::Text(self.text(length.into())?)
            }
            0x03 => Value::Object(self.members(depth)?),
            0x05 => Value::Null,
            0x06 | 0x0d => Value::Undefined,
            0x08 => {
                // The count of an ECMA array is a hint that peers get wrong; the end marker counts.
                self.array::<4>()?;
                Value::Object(self.members(depth)?)
            }
            0x0a => {
                let count = u32::from_be_bytes(self.array()?);
                // Grown value by value: the declared count is the peer's word and may be huge.
                let mut values = Vec::new();
                for _ in 0..count {
                    values.push(self.value(depth + 1)?);
                }
                Value::Array(values)
            }
            0x0b => {
                let ms = f64::from_be_bytes(self.array()?);
                self.array::<2>()?;
                Value::Date(ms)
            }
            0x0c => {
                let length = u32::from_be_bytes(self.array()?);
                Value::Text(self.text(length as usize)?)
            }
            other => return Err(Amf0Error::Marker(other)),
        })
    }

    fn members(&mut self, depth: usize) -> Result<Vec<(String, Value)>, Amf0Error> {
        let mut members = Vec::new();
        loop {
            let length = u16::from_be_bytes(self.array()?);
            let name = self.text(length.into())?;
            if name.is_empty() && self.rest.first() == Some(&0x09) {
                self.take(1)?;
                return Ok(members);
            }
            members.push((name, self.value(depth + 1)?));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn encoded(value: &Value) -> BytesMut {
        let mut out = BytesMut::new();
        value.encode(&mut out);
        out
    }

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            any::<f64>().prop_filter("NaN is not equal to itself", |n| !n.is_nan()).prop_map(Value::Number),
            any::<bool>().prop_map(Value::Boolean),
            ".{0,40}".prop_map(Value::Text),
            Just(Value::Null),
            Just(Value::Undefined),
            (0.0..1e15).prop_map(Value::Date),
        ];
        leaf.prop_recursive(4, 40, 6, |inner| {
            prop_oneof![
                prop::collection::vec(("[a-z]{1,8}", inner.clone()), 0..6).prop_map(Value::Object),
                prop::collection::vec(inner, 0..6).prop_map(Value::Array),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_encoded_is_decoded(value in any_value()) {
            prop_assert_eq!(decode_all(&encoded(&value)), Ok(vec![value]));
        }

        #[test]
        fn any_bytes_give_values_or_an_error(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
            let _ = decode_all(&bytes);
        }
    }

    #[test]
    fn long_text_takes_the_long_form() {
        let value = Value::Text("m".repeat(70_000));
        assert_eq!(encoded(&value)[0], 0x0c);
        assert_eq!(decode_all(&encoded(&value)), Ok(vec![value]));
    }

    #[test]
    fn a_tower_of_objects_is_refused_before_the_stack_is_gone() {
        let tower = [0x03, 0, 1, b'a'].repeat(100_000);
        assert_eq!(decode_all(&tower), Err(Amf0Error::TooDeep));
    }

    #[test]
    fn objects_may_be_nested_so_deep_and_no_deeper() {
        let tower = |depth: usize| {
            let mut bytes = BytesMut::new();
            (0..depth).fold(Value::Null, |inside, _| object([("a", inside)])).encode(&mut bytes);
            decode_all(&bytes)
        };
        assert!(tower(MAX_DEPTH).is_ok());
        assert_eq!(tower(MAX_DEPTH + 1), Err(Amf0Error::TooDeep));
    }

    #[test]
    fn values_are_what_they_are_and_members_are_found_by_name() {
        let value = object([("app", "live".into()), ("level", 2.0.into())]);
        assert_eq!(value.get("app").and_then(Value::as_text), Some("live"));
        assert_eq!(value.get("level").and_then(Value::as_number), Some(2.0));
        assert_eq!(value.get("level").and_then(Value::as_text), None);
        assert_eq!(value.get("app").and_then(Value::as_number), None);
        assert_eq!((value.get("none"), Value::Null.get("app")), (None, None));
    }

    #[test]
    fn a_huge_declared_array_costs_nothing() {
        assert_eq!(decode_all(&[0x0a, 0xff, 0xff, 0xff, 0xff, 0x05]), Err(Amf0Error::Truncated));
        assert_eq!(decode_all(&[0x05; MAX_VALUES + 1]), Err(Amf0Error::TooMany));
    }

    #[test]
    fn unknown_markers_are_named() {
        assert_eq!(decode_all(&[0x11]), Err(Amf0Error::Marker(0x11)));
    }
}

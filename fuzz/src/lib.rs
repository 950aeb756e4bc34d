//! What the targets share.

/// A session with a server, whatever that says, from its first byte on: no panic, small answers, no key in an error.
#[macro_export]
macro_rules! client_session {
    ($session:ty) => {
        const KEY: &str = "a-key-that-nobody-hears";

        libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
            // Half of the tries begin after an honest handshake, as most bytes would not come so far.
            let (honest, bytes) = match bytes {
                [first, rest @ ..] => (first % 2 == 0, rest),
                [] => return,
            };
            let address = "rtmp://127.0.0.1/live".parse();
            let (Ok(address), Ok(key)) = (address, moth_destination::StreamKey::new(KEY)) else { return };
            let mut session = <$session>::new(address, key);
            if honest {
                session.feed(&[3]);
                session.feed(&[0; 3072]);
            }
            let (mut asked, mut answered) = (session.take_output().len(), 0);
            let (first, second) = bytes.split_at(bytes.len() / 2);
            for piece in [first, second] {
                session.feed(piece);
                loop {
                    match session.poll() {
                        Ok(Some(_)) => {}
                        Ok(None) => break,
                        Err(error) => {
                            assert!(!error.to_string().contains(KEY), "{error}");
                            return;
                        }
                    }
                }
                answered += session.take_output().len();
            }
            session.finish();
            asked += session.take_output().len();
            assert!(asked + answered < 20_000 + 100 * bytes.len());
        });
    };
}

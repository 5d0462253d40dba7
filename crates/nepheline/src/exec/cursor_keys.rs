//! The protection of cursors: a digest that detects corruption, or encryption with keys of the program.

use std::fmt;

use chacha20poly1305::aead::{Aead, Generate, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use nepheline_core::Error;
use sha2::{Digest, Sha256};

/// The keys with which a handle encrypts and authenticates its cursors, so that clients can neither read nor
/// change them. A handle carries them.
///
/// The cipher is XChaCha20-Poly1305 with a random nonce for each cursor. It also authenticates the tables and
/// the order of the query.
///
/// ```
/// use nepheline::CursorKeys;
/// # fn f(db: nepheline::Database, new: [u8; 32], old: [u8; 32]) {
/// // While the key is replaced, cursors that were made with the old one are still taken.
/// let db = db.carrying(CursorKeys::new(new).accepting(old));
/// # }
/// ```
#[derive(Clone)]
pub struct CursorKeys {
    current: [u8; 32],
    earlier: Vec<[u8; 32]>,
}

impl CursorKeys {
    /// Returns keys that encrypt with this key: 32 random bytes, kept secret.
    pub fn new(key: [u8; 32]) -> CursorKeys {
        CursorKeys { current: key, earlier: Vec::new() }
    }

    /// Also accepts cursors that were encrypted with an earlier key.
    #[must_use]
    pub fn accepting(mut self, earlier: [u8; 32]) -> CursorKeys {
        self.earlier.push(earlier);
        self
    }
}

impl fmt::Debug for CursorKeys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CursorKeys({} earlier)", self.earlier.len())
    }
}

/// The number of bytes of the digest of a plain cursor.
const DIGEST: usize = 9;
/// The number of bytes of the nonce of an encrypted cursor.
const NONCE: usize = 24;

/// Protects the content of a cursor.
pub(super) fn seal(
    keys: Option<&CursorKeys>,
    structure: &str,
    payload: Vec<u8>,
) -> Result<Vec<u8>, Error> {
    let Some(keys) = keys else {
        let mut sealed = digest(structure, &payload).to_vec();
        sealed.extend(payload);
        return Ok(sealed);
    };
    let nonce = XNonce::try_generate();
    let nonce = nonce.map_err(|_| Error::invalid_page("a cursor cannot be encrypted"))?;
    let message = Payload { msg: &payload, aad: structure.as_bytes() };
    let encrypted = XChaCha20Poly1305::new(&keys.current.into()).encrypt(&nonce, message);
    let encrypted = encrypted.map_err(|_| Error::invalid_page("a cursor cannot be encrypted"))?;
    let mut sealed = nonce.to_vec();
    sealed.extend(encrypted);
    Ok(sealed)
}

/// Returns the content of a cursor, if it is intact, belongs to the query, and is protected as the handle
/// requires.
pub(super) fn open(keys: Option<&CursorKeys>, structure: &str, sealed: &[u8]) -> Option<Vec<u8>> {
    let Some(keys) = keys else {
        let (found, payload) = sealed.split_at_checked(DIGEST)?;
        return (found == digest(structure, payload)).then(|| payload.to_vec());
    };
    let (nonce, encrypted) = sealed.split_at_checked(NONCE)?;
    let nonce = XNonce::try_from(nonce).ok()?;
    let mut all = std::iter::once(&keys.current).chain(&keys.earlier);
    all.find_map(|key| {
        let message = Payload { msg: encrypted, aad: structure.as_bytes() };
        XChaCha20Poly1305::new(key.into()).decrypt(&nonce, message).ok()
    })
}

fn digest(structure: &str, payload: &[u8]) -> [u8; DIGEST] {
    let mut digest = Sha256::new();
    digest.update(b"nepheline 2\0");
    digest.update(structure.as_bytes());
    digest.update(b"\0");
    digest.update(payload);
    let digest = digest.finalize();
    std::array::from_fn(|i| digest[i])
}

#[cfg(test)]
mod tests {
    use super::{CursorKeys, open, seal};

    #[test]
    fn a_cursor_is_opened_only_by_a_handle_of_its_kind_for_its_query() {
        let (old, new) = (CursorKeys::new([7; 32]), CursorKeys::new([8; 32]).accepting([7; 32]));
        let payload = || b"[\"Upper Lode\",\"7\"]".to_vec();
        for keys in [None, Some(&old), Some(&new)] {
            let Ok(sealed) = seal(keys, "by region", payload()) else { panic!("not sealed") };
            assert_eq!(open(keys, "by region", &sealed), Some(payload()));
            assert_eq!(open(keys, "by depth", &sealed), None);
            assert_eq!(keys.is_some(), !sealed.ends_with(b"\"7\"]"), "a plain cursor can be read");
            for at in 0..sealed.len() {
                let mut changed = sealed.clone();
                changed[at] ^= 1;
                assert_eq!(open(keys, "by region", &changed), None);
                assert_eq!(open(keys, "by region", &sealed[..at]), None);
            }
            for others in [None, Some(&old), Some(&new)] {
                let is_taken = open(others, "by region", &sealed).is_some();
                let (made, used) = (keys.map(|keys| keys.current[0]), others.map(|keys| keys.current[0]));
                assert_eq!(is_taken, made == used || (made, used) == (Some(7), Some(8)));
            }
        }
        assert_eq!(format!("{new:?}"), "CursorKeys(1 earlier)");
    }
}

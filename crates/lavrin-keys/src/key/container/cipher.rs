//! The ciphers of private key containers. Those of openssh-key-v1 have names of OpenSSH; the others come by size.

use crate::key::KeyFault;
use aes::cipher::{KeyIvInit as _, StreamCipher as _, StreamCipherSeek as _, block_padding::NoPadding};
use aes_gcm::KeyInit as _;
use aes_gcm::aead::consts::{U12, U13, U14, U15, U16};

/// Bytes of an authentication tag.
const TAG_BYTES: usize = 16;

/// A cipher with its key size in bytes, where there are several.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Cipher {
    None,
    AesCtr(usize),
    AesCbc(usize),
    AesGcm(usize),
    /// The same with a shorter tag, of so many bytes.
    AesGcmShort(usize, usize),
    TripleDesCbc,
    ChaCha20Poly1305,
}

/// Every cipher that OpenSSH reads in its containers.
const OPENSSH: [(&str, Cipher); 11] = [
    ("none", Cipher::None),
    ("aes128-ctr", Cipher::AesCtr(16)),
    ("aes192-ctr", Cipher::AesCtr(24)),
    ("aes256-ctr", Cipher::AesCtr(32)),
    ("aes128-cbc", Cipher::AesCbc(16)),
    ("aes192-cbc", Cipher::AesCbc(24)),
    ("aes256-cbc", Cipher::AesCbc(32)),
    ("3des-cbc", Cipher::TripleDesCbc),
    ("aes128-gcm@openssh.com", Cipher::AesGcm(16)),
    ("aes256-gcm@openssh.com", Cipher::AesGcm(32)),
    ("chacha20-poly1305@openssh.com", Cipher::ChaCha20Poly1305),
];

impl Cipher {
    pub(crate) fn from_openssh_name(name: &[u8]) -> Option<Self> {
        OPENSSH.into_iter().find(|(known, _)| known.as_bytes() == name).map(|(_, cipher)| cipher)
    }

    pub(crate) fn openssh_name(self) -> &'static str {
        OPENSSH.into_iter().find(|(_, cipher)| *cipher == self).map_or("none", |(name, _)| name)
    }

    /// Bytes of key that are derived. ChaCha20-Poly1305 takes 64 and uses the first 32.
    pub(crate) fn key_bytes(self) -> usize {
        match self {
            Self::None => 0,
            Self::AesCtr(size) | Self::AesCbc(size) | Self::AesGcm(size) | Self::AesGcmShort(size, _) => size,
            Self::TripleDesCbc => 24,
            Self::ChaCha20Poly1305 => 64,
        }
    }

    pub(crate) fn iv_bytes(self) -> usize {
        match self {
            Self::None | Self::ChaCha20Poly1305 => 0,
            Self::AesCtr(_) | Self::AesCbc(_) => 16,
            Self::AesGcm(_) | Self::AesGcmShort(..) => 12,
            Self::TripleDesCbc => 8,
        }
    }

    /// The size that the plaintext is padded to.
    pub(crate) fn block(self) -> usize {
        match self {
            Self::None | Self::TripleDesCbc | Self::ChaCha20Poly1305 => 8,
            Self::AesCtr(_) | Self::AesCbc(_) | Self::AesGcm(_) | Self::AesGcmShort(..) => 16,
        }
    }

    pub(crate) fn tag_bytes(self) -> usize {
        match self {
            Self::AesGcm(_) | Self::ChaCha20Poly1305 => TAG_BYTES,
            Self::AesGcmShort(_, tag) => tag,
            _ => 0,
        }
    }

    /// Encrypts in counter mode, the only one that Lavrin writes into openssh-key-v1.
    pub(crate) fn encrypt_ctr(self, key: &[u8], iv: &[u8], data: &mut [u8]) {
        // Counter mode is its own inverse.
        let done = self.decrypt(key, iv, data, &[]);
        debug_assert!(done.is_ok() && matches!(self, Self::AesCtr(_)));
    }

    /// Encrypts whole blocks with AES-256-CBC, the cipher that Lavrin writes into PKCS#8.
    pub(crate) fn encrypt_cbc(key: &[u8], iv: &[u8], data: &mut [u8]) {
        use aes::cipher::BlockModeEncrypt as _;
        let cipher =
            cbc::Encryptor::<aes::Aes256>::new_from_slices(key, iv).expect("key and iv have the cipher's lengths");
        let length = data.len();
        cipher.encrypt_padded::<NoPadding>(data, length).expect("the data is a number of whole blocks");
    }

    /// Decrypts in place; `data` is a number of whole blocks and `tag` has the cipher's length.
    ///
    /// # Errors
    /// [`KeyFault::WrongPassphrase`] where a tag does not fit: nothing tells a wrong passphrase from damage.
    pub(crate) fn decrypt(self, key: &[u8], iv: &[u8], data: &mut [u8], tag: &[u8]) -> Result<(), KeyFault> {
        match self {
            Self::None => Ok(()),
            Self::AesCtr(16) => ctr_mode::<ctr::Ctr128BE<aes::Aes128>>(key, iv, data),
            Self::AesCtr(24) => ctr_mode::<ctr::Ctr128BE<aes::Aes192>>(key, iv, data),
            Self::AesCtr(_) => ctr_mode::<ctr::Ctr128BE<aes::Aes256>>(key, iv, data),
            Self::AesCbc(16) => cbc_mode::<cbc::Decryptor<aes::Aes128>>(key, iv, data),
            Self::AesCbc(24) => cbc_mode::<cbc::Decryptor<aes::Aes192>>(key, iv, data),
            Self::AesCbc(_) => cbc_mode::<cbc::Decryptor<aes::Aes256>>(key, iv, data),
            Self::TripleDesCbc => cbc_mode::<cbc::Decryptor<des::TdesEde3>>(key, iv, data),
            Self::AesGcm(16) => gcm_mode::<aes_gcm::Aes128Gcm>(key, iv, data, tag),
            Self::AesGcm(24) => gcm_mode::<Gcm<aes::Aes192, U16>>(key, iv, data, tag),
            Self::AesGcm(_) => gcm_mode::<aes_gcm::Aes256Gcm>(key, iv, data, tag),
            Self::AesGcmShort(16, _) => short_gcm::<aes::Aes128>(key, iv, data, tag),
            Self::AesGcmShort(24, _) => short_gcm::<aes::Aes192>(key, iv, data, tag),
            Self::AesGcmShort(..) => short_gcm::<aes::Aes256>(key, iv, data, tag),
            Self::ChaCha20Poly1305 => chacha(key, data, tag),
        }
    }
}

fn ctr_mode<C: aes::cipher::KeyIvInit + aes::cipher::StreamCipher>(
    key: &[u8],
    iv: &[u8],
    data: &mut [u8],
) -> Result<(), KeyFault> {
    C::new_from_slices(key, iv).map_err(|_| KeyFault::WrongPassphrase)?.apply_keystream(data);
    Ok(())
}

fn cbc_mode<C: aes::cipher::KeyIvInit + aes::cipher::BlockModeDecrypt>(
    key: &[u8],
    iv: &[u8],
    data: &mut [u8],
) -> Result<(), KeyFault> {
    let cipher = C::new_from_slices(key, iv).map_err(|_| KeyFault::WrongPassphrase)?;
    cipher.decrypt_padded::<NoPadding>(data).map(|_| ()).map_err(|_| KeyFault::WrongPassphrase)
}

type Gcm<C, T> = aes_gcm::AesGcm<C, aes_gcm::aead::consts::U12, T>;

/// GCM with a tag of 12 to 15 bytes.
fn short_gcm<C>(key: &[u8], iv: &[u8], data: &mut [u8], tag: &[u8]) -> Result<(), KeyFault>
where
    Gcm<C, U12>: aes_gcm::KeyInit + aes_gcm::aead::AeadInOut,
    Gcm<C, U13>: aes_gcm::KeyInit + aes_gcm::aead::AeadInOut,
    Gcm<C, U14>: aes_gcm::KeyInit + aes_gcm::aead::AeadInOut,
    Gcm<C, U15>: aes_gcm::KeyInit + aes_gcm::aead::AeadInOut,
{
    match tag.len() {
        12 => gcm_mode::<Gcm<C, U12>>(key, iv, data, tag),
        13 => gcm_mode::<Gcm<C, U13>>(key, iv, data, tag),
        14 => gcm_mode::<Gcm<C, U14>>(key, iv, data, tag),
        _ => gcm_mode::<Gcm<C, U15>>(key, iv, data, tag),
    }
}

fn gcm_mode<C: aes_gcm::KeyInit + aes_gcm::aead::AeadInOut>(
    key: &[u8],
    iv: &[u8],
    data: &mut [u8],
    tag: &[u8],
) -> Result<(), KeyFault> {
    let wrong = |_| KeyFault::WrongPassphrase;
    let cipher = C::new_from_slice(key).map_err(|_| KeyFault::WrongPassphrase)?;
    let nonce = aes_gcm::aead::Nonce::<C>::try_from(iv).map_err(|_| KeyFault::WrongPassphrase)?;
    let tag = aes_gcm::aead::Tag::<C>::try_from(tag).map_err(|_| KeyFault::WrongPassphrase)?;
    cipher.decrypt_inout_detached(&nonce, &[], data.into(), &tag).map_err(wrong)
}

/// OpenSSH's own combination: sequence number 0, the first block of the keystream gives the key of the tag.
fn chacha(key: &[u8], data: &mut [u8], tag: &[u8]) -> Result<(), KeyFault> {
    let wrong = KeyFault::WrongPassphrase;
    let Ok(mut stream) = chacha20::ChaCha20Legacy::new_from_slices(key.get(..32).unwrap_or_default(), &[0; 8]) else {
        return Err(wrong);
    };
    let mut tag_key = zeroize::Zeroizing::new([0u8; 32]);
    stream.apply_keystream(&mut *tag_key);
    let Ok(mac) = poly1305::Poly1305::new_from_slice(&*tag_key) else { return Err(wrong) };
    let found = mac.compute_unpadded(data);
    if aws_lc_rs::constant_time::verify_slices_are_equal(found.as_slice(), tag).is_err() {
        return Err(wrong);
    }
    stream.seek(64u32);
    stream.apply_keystream(data);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use aes_gcm::aead::AeadInOut as _;

    #[test]
    fn gcm_with_a_short_tag_is_read() {
        let (key, iv) = ([1; 24], [2; 12]);
        let mut data = *b"tide and light..";
        let cipher = Gcm::<aes::Aes192, U12>::new_from_slice(&key).unwrap();
        let tag = cipher.encrypt_inout_detached(&iv.into(), &[], (&mut data[..]).into()).unwrap();
        Cipher::AesGcmShort(24, 12).decrypt(&key, &iv, &mut data, &tag).unwrap();
        assert_eq!(&data, b"tide and light..");
        assert!(Cipher::AesGcmShort(24, 12).decrypt(&key, &iv, &mut data, &[0; 12]).is_err());
    }
}

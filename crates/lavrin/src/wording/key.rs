//! Keys and lines of key files that do not read, in words.

use lavrin_keys::key::KeyFault;
use lavrin_keys::key::container::Protection;
use lavrin_keys::key::fault::{Damage, Unsupported, WrongNumber, WrongStructure};
use lavrin_keys::key::fingerprint::NotAFingerprint;
use lavrin_keys::key::paste::PasteRepair;
use lavrin_keys::keysfile::LineFault;
use lavrin_keys::keysfile::options::OptionFault;

/// Why bytes are no key that can be used.
pub fn fault(fault: &KeyFault) -> String {
    match fault {
        KeyFault::BadBase64 { detail } => format!("the text is not base64: {detail}"),
        KeyFault::BadAuthoritySignature => "it is damaged: the signature of the authority does not verify".to_owned(),
        KeyFault::Damaged { detail } => {
            format!("{}: it was damaged in transit; ask for the key again", damage(*detail))
        }
        KeyFault::BadStructure { detail } => format!("the structure is wrong: {}", structure(*detail)),
        KeyFault::InvalidValues { detail } => format!("the numbers do not form a valid key: {}", number(*detail)),
        KeyFault::NotASigningKey { name } => {
            format!("{name} keys are for key agreement; they cannot sign, so they open no login")
        }
        KeyFault::CostTooHigh { asked, limit } => {
            format!("opening it would take {asked} rounds of key derivation; more than {limit} are refused")
        }
        KeyFault::OtherContainer { holds } => {
            format!("the label says one format and the block holds another: {}", holds.unwrap_or("a DER structure"))
        }
        KeyFault::LengthOutOfBounds { declared, left } => {
            format!("a field declares {declared} bytes where {left} remain")
        }
        KeyFault::PolicyAlgorithm { name } => format!("{name} keys are no longer accepted by SSH servers"),
        KeyFault::SeveralKeysInContainer { count } => {
            format!("the container declares {count} keys; exactly one is allowed")
        }
        KeyFault::TooLarge { bytes, limit } => {
            format!("{bytes} bytes are far more than any key needs; the limit is {limit}")
        }
        KeyFault::TrailingData { left } => format!("{left} bytes follow after the end of the key"),
        KeyFault::TypeMismatch { outside, inside } => format!("it says {outside} outside and {inside} inside"),
        KeyFault::UnsupportedAlgorithm { name } => {
            format!("keys of type {} are not supported", unsupported(name))
        }
        KeyFault::UnsupportedCipher { name } => match name {
            Unsupported::Named(name) => format!("it is encrypted with {name}, which Lavrin does not read"),
            _ => "it is encrypted with an unknown cipher, which Lavrin does not read".to_owned(),
        },
        KeyFault::UnsupportedKdf { name } => {
            format!("its key derivation is {}, which Lavrin does not know", unsupported(name))
        }
        KeyFault::OtherBlock { label } => format!("a block labelled '{label}' holds no key that SSH uses"),
        other => plain(other).to_owned(),
    }
}

/// The faults that need no detail.
fn plain(fault: &KeyFault) -> &'static str {
    match fault {
        KeyFault::CertificateX509 => "this is an X.509 certificate or request, not an SSH key",
        KeyFault::ExplicitParameters => "the curve is given by its numbers instead of its name",
        KeyFault::MultiPrime => "an RSA key with more than two primes; SSH has none",
        KeyFault::OtherProductBlock => "this is a key block of another system, not an SSH key",
        KeyFault::WeakPoint => "the public point is one of small order: anybody can sign for this key",
        KeyFault::BadMagic => "this does not begin like an openssh-key-v1 container",
        KeyFault::BadPadding => "the padding at the end is not the one the format prescribes",
        KeyFault::CheckintMismatch => "the two check numbers differ: the file is damaged",
        KeyFault::Empty => "the file is empty",
        KeyFault::IntegerNegative => "an integer is negative where a positive one is needed",
        KeyFault::IntegerNotMinimal => "an integer has needless leading bytes",
        KeyFault::LabelMismatch => "the BEGIN and END lines differ, or their dashes are those of no format",
        KeyFault::PointNotOnCurve => "the public point is not a point of the named curve",
        KeyFault::PublicPrivateMismatch => "the public and the private part belong to different keys",
        KeyFault::Truncated => "the end is missing: the key was cut off",
        KeyFault::ClosedContainer => {
            "this looks like a private key in a program's own container; export it there as OpenSSH or PKCS#8"
        }
        KeyFault::WrongPassphrase => "the passphrase does not open it",
        KeyFault::PassphraseNeeded => "it is protected and no passphrase was given",
        _ => "there is no key in it",
    }
}

fn unsupported(what: &Unsupported) -> String {
    match what {
        Unsupported::Named(name) => name.clone(),
        Unsupported::Nameless => "an algorithm that SSH does not know".to_owned(),
        Unsupported::NoneWithCipher => "none, although there is a cipher".to_owned(),
        Unsupported::OlderThanPbes2 => "an older scheme than PBES2".to_owned(),
        Unsupported::OtherDerivation => "neither PBKDF2 nor scrypt".to_owned(),
        Unsupported::Pbkdf2Hash => "PBKDF2 with an unknown hash".to_owned(),
        Unsupported::OtherCurve => "ECDSA on a curve that SSH does not know".to_owned(),
        Unsupported::Authenticator => "private keys of authenticators (the file holds only a handle)".to_owned(),
        Unsupported::InThisContainer(algorithm) => format!("{algorithm} in this container"),
    }
}

/// A text that is no fingerprint.
pub fn no_fingerprint(fault: &NotAFingerprint) -> String {
    format!("'{}' is not a fingerprint: it is written SHA256: followed by 43 characters of base64", fault.text)
}

/// What was undone before the key could be read.
pub fn repair(repair: PasteRepair) -> &'static str {
    match repair {
        PasteRepair::FromJson => "taken out of JSON",
        PasteRepair::FromQuotedPrintable => "taken out of quoted-printable",
        PasteRepair::FromHtml => "taken out of HTML",
        PasteRepair::FromText => "taken out of the text around it",
        PasteRepair::Invisible => "invisible characters taken out",
        PasteRepair::Typographic => "typographic blanks and dashes replaced",
        PasteRepair::QuoteMarks => "quote marks removed",
        PasteRepair::Joined => "broken lines joined",
    }
}

/// How a private key is protected.
pub fn protection(protection: &Protection) -> String {
    match protection {
        Protection::None => "none".to_owned(),
        Protection::Bcrypt { cipher, rounds } => format!("{cipher}, bcrypt with {rounds} rounds"),
        Protection::Pbkdf2 { cipher, hash, iterations } => {
            format!("{cipher}, PBKDF2 with {hash}, {iterations} iterations")
        }
        Protection::Scrypt { cipher, cost } => format!("{cipher}, scrypt with N = {cost}"),
        Protection::Md5 { cipher } => format!("{cipher}, one round of MD5, which is weak"),
    }
}

fn damage(damage: Damage) -> &'static str {
    match damage {
        Damage::EvenModulus => "the modulus of the RSA key is even",
        Damage::EvenExponent => "the exponent of the RSA key is even",
        Damage::SmallFactor => "the modulus of the RSA key has a small factor, as no RSA key has",
    }
}

/// What is wrong with the structure.
fn structure(what: WrongStructure) -> &'static str {
    match what {
        WrongStructure::Options => "the options in front of the key do not parse",
        WrongStructure::ByteOrderMark => "there is a byte order mark in front",
        WrongStructure::HostAuthority => "this is the key of an authority that signs host keys, not one that signs in",
        WrongStructure::RevokedMark => "this line says that the key is revoked",
        WrongStructure::CompressedPoint => "an ECDSA point has to be in uncompressed form",
        WrongStructure::Ed25519Length => "an Ed25519 private key has 64 bytes",
        WrongStructure::NotNoneTogether => "cipher and key derivation have to be 'none' together",
        WrongStructure::NoComment => "the comment is missing",
        WrongStructure::OptionsOfNone => "key derivation 'none' has no options",
        WrongStructure::NoSaltOrRounds => "the key derivation needs a salt and at least one round",
        WrongStructure::NoDekInfo => "it is encrypted, but does not say how (no DEK-Info)",
        WrongStructure::InitialValueNoBlock => "the initial value is not as long as a block",
        WrongStructure::NotWholeBlocks => "the encrypted part is not a number of whole blocks",
        WrongStructure::PublicContainer => "this container holds no private key",
        WrongStructure::PartialByte => "a bit string is not a number of whole bytes",
        WrongStructure::FieldMissing => "a field is missing",
        WrongStructure::DerType => "a DER value has another type than expected",
        WrongStructure::DerIndefinite => "a DER length is not in the definite form",
        WrongStructure::DerLengthNotMinimal => "a DER length is longer than it needs to be",
        WrongStructure::DerEmptyInteger => "a DER integer is empty",
        WrongStructure::EcVersion => "the version of an EC key is 1",
        WrongStructure::NoCurve => "the curve is not named",
        WrongStructure::Pkcs8Version => "the version of a PKCS#8 key is 0 or 1",
        WrongStructure::DerivedKeyLength => "the derived key has not the length that the cipher needs",
        WrongStructure::NoIterations => "the key derivation needs at least one iteration",
        WrongStructure::ScryptN => "scrypt's N is a power of two",
        WrongStructure::GcmTag => "the tag of GCM has 12 to 16 bytes",
        WrongStructure::InitialValueLength => "the initial value has not the length that the cipher needs",
        WrongStructure::ScryptParameters => "the parameters of scrypt do not fit together",
        WrongStructure::NoEmptyLine => "the empty line after the headers is missing",
        WrongStructure::NoKeyStructure => "this is not a key structure",
        WrongStructure::CertificateKind => "a certificate is for users or for hosts",
        WrongStructure::HeaderBackslash => "a backslash at the end of a header makes the key part of the header",
        WrongStructure::RsaVersion => "the version of an RSA key is 0 or 1",
        WrongStructure::CertificateForPlainKey => "a certificate cannot be installed; its plain key can",
    }
}

/// What is wrong with the numbers.
fn number(what: WrongNumber) -> &'static str {
    match what {
        WrongNumber::Zero => "a number is zero",
        WrongNumber::EcdsaNotMade => "no ECDSA key could be made",
        WrongNumber::RsaNotMade => "no RSA key could be made",
        WrongNumber::RsaZero => "modulus or exponent is zero",
        WrongNumber::ExponentAboveModulus => "the exponent is larger than the modulus",
        WrongNumber::Ed25519PublicLength => "an Ed25519 public key has 32 bytes",
        WrongNumber::PointLength => "the public point has not the size of its curve",
        WrongNumber::Ed25519Seed => "not an Ed25519 seed",
        WrongNumber::ScalarAboveOrder => "the private number is not below the order of the curve",
        WrongNumber::PrivateAboveModulus => "a private number is longer than the modulus",
        WrongNumber::RsaParts => "modulus, exponents and primes do not belong together",
        WrongNumber::Ed25519SeedLength => "an Ed25519 seed has 32 bytes",
        WrongNumber::CrtExponents => "the exponents of the two primes are not those of the key",
    }
}

/// Why the server skips a line.
pub fn line(fault: &LineFault) -> String {
    match fault {
        LineFault::ByteOrderMark { .. } => {
            "there is a byte order mark in front of it, which the server reads as part of the first word".to_owned()
        }
        LineFault::PrivateKey => "this is part of a private key".to_owned(),
        LineFault::Block => {
            "this is part of a block in another format; a key file wants each key on one line".to_owned()
        }
        LineFault::Key(key) => self::fault(key),
        LineFault::Options(options) => option(options),
        LineFault::NoKey => "there is no key on this line".to_owned(),
    }
}

/// Why options do not parse.
pub fn option(fault: &OptionFault) -> String {
    match fault {
        OptionFault::Unknown { name } => format!("the server knows no option '{name}', so it skips the line"),
        OptionFault::NotQuoted { name } => format!("the value of '{name}' needs double quotes"),
        OptionFault::NotClosed { name } => format!("the closing quote of '{name}' is missing"),
        OptionFault::Repeated { name } => format!("'{name}' is there twice; the server accepts it once"),
        OptionFault::BadValue { name, value } => format!("the server does not accept '{value}' as {name}="),
        OptionFault::TooMany { name, limit } => format!("'{name}' is there more than {limit} times"),
        OptionFault::NoComma { name } => format!("a comma is missing after '{name}'"),
    }
}

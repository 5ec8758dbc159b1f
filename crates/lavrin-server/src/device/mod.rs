//! What the register says of a device that shows little of itself: where its keys are and how they are written there, what it can bear,
//! and how it is spoken to where it has a language of its own.

mod limits;
mod places;
mod profile;
mod template;

pub use limits::{KeyLimits, LimitBroken};
pub use places::{GroupPlace, KeyForm, KeyLineEnds, KeyPlaces, is_keys_path};
pub use profile::{
    Doing, ImportFile, ImportWay, Listing, PasswordSwitch, PasswordsEnd, Profile, TimedReload, TransferService,
};
pub use template::{MARKS, MarkValues, Template};

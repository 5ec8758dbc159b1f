//! Results as other programs and people take them: tables (RFC 4180), findings (SARIF 2.1.0), and a page to look at.
//!
//! Nothing in here knows a file, a host, a register or a clock: values and words come in, text goes out.
#![warn(missing_docs)]

pub mod csv;
pub mod object;
pub mod page;
pub mod plot;
pub mod rows;
pub mod sarif;

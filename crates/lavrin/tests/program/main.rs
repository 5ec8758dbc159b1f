//! The built program, as its users call it. One binary for all of it: built and linked once, and its tests share both cores
//! until the last one ends.

mod common;
mod corpus;
mod crash;
mod demo;
mod enforce;
mod enforce_faults;
mod held;
mod help;
mod key_convert;
mod key_generate;
mod key_inspect;
mod kill;
mod lost_line;
mod mend;
mod not_root;
mod random_sshd;
mod real_dropbear;
mod real_enforce;
mod real_held;
mod real_login;
mod real_mend;
mod real_owner;
mod real_shared;
mod real_sshd;
mod real_survey;
mod real_versions;
mod register;
mod secrets;
mod server_cases;
mod stand_in;
mod stores;
mod structure;
mod survey;
mod swapped;
mod tree;

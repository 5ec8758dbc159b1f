//! What the register says of a host, as it is typed for `lavrin host add` and `lavrin host set`.

use crate::account_target::parse_host;
use crate::command::register::{typed_date, typed_id};
use crate::host::ReachArg;
use crate::sign_in::RootByArg;
use clap::Args;
use lavrin_fleet::register::Date;
use lavrin_fleet::register::edit::HostField;

/// The fields of a host in the register
#[derive(Debug, Args)]
pub struct HostFields {
    /// Where to connect (default: its name)
    #[arg(long, value_name = "ADDRESS", value_parser = parse_host)]
    pub address: Option<String>,
    /// Port of its SSH server
    #[arg(long, value_name = "PORT")]
    pub port: Option<u16>,
    /// How it is spoken to
    #[arg(long, value_name = "REACH")]
    pub reach: Option<ReachArg>,
    /// Its file of keys; %u is the account
    #[arg(long, value_name = "PATH")]
    pub keys_file: Option<String>,
    /// Profile for its command line
    #[arg(long, value_name = "PROFILE", value_parser = typed_id)]
    pub profile: Option<String>,
    /// A tag that groups it with others (repeatable; replaces the list)
    #[arg(long, value_name = "TAG", value_parser = typed_id)]
    pub tag: Vec<String>,
    /// Where the machine is
    #[arg(long, value_name = "PLACE")]
    pub site: Option<String>,
    /// The account that signs in
    #[arg(long, value_name = "NAME")]
    pub login: Option<String>,
    /// How that login becomes root
    #[arg(long, value_name = "WAY")]
    pub root_by: Option<RootByArg>,
    /// The host through which it is reached
    #[arg(long, value_name = "HOST")]
    pub through: Option<String>,
    /// How to get in when no key opens it
    #[arg(long, value_name = "TEXT")]
    pub way_back: Option<String>,
    /// When that way was last tried
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub way_back_tried: Option<Date>,
    /// An account that is managed there (repeatable; replaces the list)
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Vec<String>,
}

impl HostFields {
    /// What was typed, by the names that it has in the register's files.
    pub fn given(&self) -> Vec<(&'static str, HostField<'_>)> {
        let mut fields = Vec::new();
        fields.extend(self.address.as_deref().map(|address| ("address", HostField::Text(address))));
        fields.extend(self.port.map(|port| ("port", HostField::Number(port.into()))));
        fields.extend(self.reach.map(|reach| ("reach", HostField::Text(reach.kind().name()))));
        fields.extend(self.keys_file.as_deref().map(|file| ("keys_file", HostField::Text(file))));
        fields.extend(self.profile.as_deref().map(|profile| ("profile", HostField::Text(profile))));
        fields.extend((!self.tag.is_empty()).then_some(("tags", HostField::List(&self.tag))));
        fields.extend(self.site.as_deref().map(|site| ("site", HostField::Text(site))));
        fields.extend(self.login.as_deref().map(|login| ("login", HostField::Text(login))));
        fields.extend(self.root_by.and_then(RootByArg::name).map(|way| ("root_by", HostField::Text(way))));
        fields.extend(self.through.as_deref().map(|through| ("through", HostField::Text(through))));
        fields.extend(self.way_back.as_deref().map(|way| ("way_back", HostField::Text(way))));
        fields.extend(self.way_back_tried.map(|tried| ("way_back_tried", HostField::Day(tried))));
        fields.extend((!self.account.is_empty()).then_some(("accounts", HostField::List(&self.account))));
        fields
    }
}

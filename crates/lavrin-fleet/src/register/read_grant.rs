//! Reading one grant of `access.toml`.

use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::table::RegisterTable;
use super::{CreateAccount, Grant, GrantLimits, Placed, RegisterFault, RegisterPlace, SourcePart, Whom};
use toml::Spanned;

/// A grant, with its number in its file; faults say why there is none.
pub(super) fn grant(
    source: SourcePart,
    number: u32,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<Grant> {
    let mut fields = Fields::new(source, "access", table, faults);
    let (person, team, machine) = (fields.text("person"), fields.text("team"), fields.text("machine"));
    let account = fields.needed_text("account");
    let place = fields.place();
    let whom = whom(person, team, machine);
    if let Err((fault, at)) = &whom {
        fields.fault(fault.clone(), (*at).unwrap_or(place));
    }
    let is_created = fields.flag("create");
    let create = CreateAccount {
        groups: fields.texts("groups"),
        shell: fields.text("shell").map(|shell| shell.value),
        home: fields.text("home").map(|home| home.value),
    };
    if !is_created && create != CreateAccount::default() {
        fields.fault(RegisterFault::MissingField { name: "create" }, place);
    }
    let grant = Grant {
        number,
        create: is_created.then(|| Box::new(create)),
        key: fields.text("key"),
        hosts: fields.texts("hosts"),
        tags: fields.texts("tags"),
        until: fields.date("until"),
        limits: limits(&mut fields),
        reason: fields.text("reason").map(|reason| reason.value),
        account: account.as_ref().map(|account| account.value.clone()).unwrap_or_default(),
        whom: whom.unwrap_or_else(|_| Placed { value: Whom::Person(String::new()), place }),
        place,
    };
    fields.end();
    if grant.entry_options().is_err() {
        let wanted = FieldKind::Options;
        let about = grant.account.clone();
        faults.push((RegisterFault::BadValue { name: "options".to_owned(), wanted }, grant.place, about));
    }
    let named = !matches!(&grant.whom.value, Whom::Person(id) if id.is_empty());
    (named && account.is_some()).then_some(grant)
}

/// What limits the entries of a grant.
pub(super) fn limits(fields: &mut Fields<'_, '_>) -> Option<Box<GrantLimits>> {
    let limits = GrantLimits {
        from: fields.text("from").map(|from| from.value),
        command: fields.text("command").map(|command| command.value),
        options: fields.texts("options").into_iter().map(|option| option.value).collect(),
    };
    limits.any()
}

/// Exactly one of the three says who it is for.
fn whom(
    person: Option<Placed<String>>,
    team: Option<Placed<String>>,
    machine: Option<Placed<String>>,
) -> Result<Placed<Whom>, (RegisterFault, Option<RegisterPlace>)> {
    match (person, team, machine) {
        (Some(person), None, None) => Ok(Placed { value: Whom::Person(person.value), place: person.place }),
        (None, Some(team), None) => Ok(Placed { value: Whom::Team(team.value), place: team.place }),
        (None, None, Some(machine)) => {
            let fault = RegisterFault::BadValue { name: "machine".to_owned(), wanted: FieldKind::Machine };
            let (account, host) = machine.value.split_once('@').ok_or((fault, Some(machine.place)))?;
            let value = Whom::Machine { account: account.to_owned(), host: host.to_owned() };
            Ok(Placed { value, place: machine.place })
        }
        (None, None, None) => Err((RegisterFault::MissingField { name: "person" }, None)),
        (one, two, three) => {
            let fault = RegisterFault::BadValue { name: "person".to_owned(), wanted: FieldKind::OneGrantee };
            Err((fault, three.or(two).or(one).map(|placed| placed.place)))
        }
    }
}

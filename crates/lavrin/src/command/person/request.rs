//! `lavrin person request`: what a newcomer sends, and how it is taken in.

use crate::command::agent::{self, SocketArgs};
use crate::command::register::{today, typed_id};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::{self, GivenKey};
use crate::out_file::OutFile;
use crate::secret::PassphraseArgs;
use crate::signing::SigningKey;
use crate::ui::Ui;
use crate::{paths, wording};
use clap::Args;
use lavrin_fleet::request::{NAMESPACE, NewcomerRequest, RequestFault, is_value};
use lavrin_keys::key::strength;
use lavrin_keys::text::{printable, shell_word};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Write what a newcomer sends to the administrator: their public key, and the proof that they have its private half
#[derive(Debug, Args)]
pub struct PersonRequestArgs {
    /// Your name in the register
    #[arg(value_name = "PERSON", value_parser = typed_id)]
    pub id: String,
    /// Your full name
    #[arg(long, value_name = "NAME", value_parser = typed_value)]
    pub name: Option<String>,
    /// What you need access for
    #[arg(long = "what-for", value_name = "TEXT", value_parser = typed_value, default_value = "")]
    pub purpose: String,
    /// What the administrator told you to sign
    #[arg(long, value_name = "TEXT", value_parser = typed_value, default_value = "")]
    pub challenge: String,
    /// Your private key; the public half of one that the agent holds
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub identity: PathBuf,
    /// The file to write (default: it is printed)
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub out: Option<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArgs,
    #[command(flatten)]
    agent: SocketArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RequestOut {
    schema: &'static str,
    person: String,
    fingerprint: String,
    /// The fingerprint as twelve words (RFC 1751).
    words: String,
    /// What is sent.
    text: String,
    /// The file that was written.
    file: Option<String>,
}

/// A value of a request, as it is typed.
fn typed_value(text: &str) -> Result<String, String> {
    let is_fine = is_value(text);
    is_fine.then(|| text.to_owned()).ok_or_else(|| "one line of up to 200 bytes".to_owned())
}

/// Runs the command.
pub async fn run(args: &PersonRequestArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let out = args.out.as_deref().map(|path| OutFile::of(path, false)).transpose()?;
    let key = signing_key(args).await?;
    let public = key.public();
    if let Some(weakness) =
        strength::objections(public, &lavrin_keys::key::policy::Policy::default()).into_iter().next()
    {
        let fault = lavrin_server::finding::Fault::WeakKey { weakness, fingerprint: public.fingerprint() };
        return Err(CommandError::with(Exit::Stopped, "this key would not be taken")
            .because(wording::finding::message(&fault))
            .hint("lavrin key generate"));
    }
    let request = NewcomerRequest {
        person: args.id.clone(),
        name: args.name.clone().unwrap_or_else(|| args.id.clone()),
        purpose: args.purpose.clone(),
        date: today(),
        challenge: args.challenge.clone(),
    };
    let signature = key.sign(NAMESPACE, &request.message(public.fingerprint())).await?;
    let text = request.text(public, &signature);
    let file = match out {
        Some(out) => {
            out.put(text.as_bytes())?;
            args.out.as_ref().map(|path| path.to_string_lossy().into_owned())
        }
        None => None,
    };
    let words = public.fingerprint().words();
    let out = RequestOut {
        schema: "lavrin/person-request/1",
        person: args.id.clone(),
        fingerprint: public.fingerprint().to_string(),
        words: words.replace('\n', " "),
        text,
        file,
    };
    ui.give(&out, || match &out.file {
        Some(file) => format!("written: {}", paths::shown(Path::new(file))),
        None => out.text.trim_end().to_owned(),
    });
    ui.status(
        "Send it to the administrator. When they call you back, these words of your key are the same on both sides:",
    );
    words.lines().for_each(|line| ui.status(&format!("  {line}")));
    Ok(Exit::Done)
}

async fn signing_key(args: &PersonRequestArgs) -> Result<SigningKey, CommandError> {
    let is_public = args.identity.extension().is_some_and(|ending| ending == "pub");
    if !is_public {
        let key = input::private_key(&args.identity, &args.passphrase.given())?;
        return Ok(SigningKey::Private(Arc::new(key)));
    }
    let key = input::public_key(&args.identity)?.key;
    let socket = args.agent.get()?;
    let held = lavrin_reach::agent::held(&socket).await.map_err(|why| agent::fault(&why))?;
    if agent::keys(&held).any(|(held, _)| *held == key) {
        return Ok(SigningKey::Agent { socket, key });
    }
    let private = paths::shown(Path::new(args.identity.to_string_lossy().trim_end_matches(".pub")));
    Err(CommandError::usage("the agent does not hold this key")
        .hint(format!("lavrin agent hold {}", shell_word(&private)))
        .again("", &format!("--identity {}", shell_word(&private))))
}

/// A request as it was received: whose it is, and the key that it proves.
pub struct Received {
    /// What it says.
    pub request: NewcomerRequest,
    /// The key.
    pub given: GivenKey,
}

impl Received {
    /// Reads and checks it.
    pub fn read(path: &Path, challenge: Option<&str>) -> Result<Self, CommandError> {
        let shown = if path == Path::new("-") { "the input".to_owned() } else { paths::shown(path) };
        let bytes = input::bytes(path)?;
        let (request, key) = NewcomerRequest::read(&bytes).map_err(|fault| refused(&shown, &fault))?;
        if let Some(wanted) = challenge.filter(|wanted| *wanted != request.challenge) {
            let said = format!("{shown} answers another challenge");
            return Err(CommandError::with(Exit::Stopped, said)
                .because(format!("asked: '{wanted}'; answered: '{}'", plain(&request.challenge)))
                .because("it may be an old request, or one that was made for somebody else; nothing was changed")
                .hint("lavrin person request --help"));
        }
        let given = GivenKey { key, comment: request.person.clone(), options: Vec::new(), repairs: Vec::new() };
        Ok(Self { request, given })
    }

    /// Shows it, with the words that both sides compare, and asks whether they do.
    pub fn confirm(&self, ui: &Ui, yes: bool) -> Result<(), CommandError> {
        let (request, print) = (&self.request, self.given.key.fingerprint());
        ui.show(&format!("{} ({}) asks for access, on {}", plain(&request.name), request.person, request.date));
        if !request.purpose.is_empty() {
            ui.show(&format!("  for        {}", plain(&request.purpose)));
        }
        if !request.challenge.is_empty() {
            ui.show(&format!("  challenge  {}", plain(&request.challenge)));
        }
        ui.show(&format!("  key        {} {print}", self.given.key.algorithm()));
        ui.show("  whoever wrote this has the private half of that key");
        ui.show(&format!("  in words   {}", print.words().replace('\n', "\n             ")));
        let question = "Call them on a number that you know: do they read out the same words?";
        if yes || ui.confirm(question, &[("once they have read them out", "--yes")])? {
            return Ok(());
        }
        Err(CommandError::with(Exit::Stopped, "the request was not confirmed").because("nothing was changed"))
    }
}

fn plain(text: &str) -> String {
    printable(text.as_bytes())
}

fn refused(shown: &str, fault: &RequestFault) -> CommandError {
    let because = match fault {
        RequestFault::NotARequest => "it is none, or a part of it is missing".to_owned(),
        RequestFault::TooLong => "it is too long".to_owned(),
        RequestFault::Field(name) => format!("'{name}' has to stand there once"),
        RequestFault::Value(name) => format!("what stands behind '{name}' cannot be so"),
        RequestFault::OtherKey => "the key that stands there is not the one that signed".to_owned(),
        RequestFault::Signature(_) => {
            "the signature does not fit the text: it was changed, or signed with another key".to_owned()
        }
    };
    CommandError::with(Exit::Stopped, format!("{shown} is no request that counts"))
        .because(because)
        .because("nothing was changed")
        .hint("ask for a new one, made by: lavrin person request --help")
}

//! `rendel charter`

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use rendel_core::{Charter, Problem, charter_schema};
use rendel_wire::http::{CharterEntry, CharterList, CheckAnswer};

use crate::api::Api;
use crate::cli::CharterCommand;
use crate::out::{FaultsFound, Out, problem_in_words};

pub(crate) async fn run(command: CharterCommand, out: Out) -> Result<()> {
    match command {
        CharterCommand::Check { file } => check(&file, out),
        CharterCommand::Publish { file, reach } => {
            let entry = publish(&Api::backend(&reach)?, &read(&file)?).await?;
            out.value(&entry, || {
                format!(
                    "{} version {} is published. Open a session: rendel session open {0}",
                    entry.charter, entry.version
                )
            });
            Ok(())
        }
        CharterCommand::List { reach } => {
            let api = Api::backend(&reach)?;
            let list: CharterList = api.read(api.get("/charters")).await?;
            if out.is_json() {
                list.charters.iter().for_each(|entry| out.value(entry, String::new));
            } else if list.charters.is_empty() {
                out.note("No charter is published yet. Publish one: rendel charter publish FILE");
            } else {
                out.table(
                    &["CHARTER", "VERSION", "TITLE", "PUBLISHED"],
                    &[1],
                    list.charters.into_iter().map(row).collect(),
                );
            }
            Ok(())
        }
        CharterCommand::Show { name, version, reach } => {
            let api = Api::backend(&reach)?;
            let query = version.map(|version| format!("?version={version}")).unwrap_or_default();
            let source =
                api.send(api.get(&format!("/charters/{name}{query}"))).await?.text().await?;
            out.value(&source, || source.trim_end().to_owned());
            Ok(())
        }
        CharterCommand::Types { file, language, to, check } => {
            let source = read(&file)?;
            let charter = Charter::parse(&source).map_err(|faults| {
                let first = faults.first().map(ToString::to_string).unwrap_or_default();
                anyhow::anyhow!("{} has faults: {first}. See: rendel charter check", file.display())
            })?;
            types(language.write(&charter), to.as_deref(), check, out)
        }
        CharterCommand::Schema => {
            out.line(charter_schema().trim_end());
            Ok(())
        }
    }
}

fn types(text: String, to: Option<&Path>, check: bool, out: Out) -> Result<()> {
    let Some(to) = to else {
        out.line(text.trim_end());
        return Ok(());
    };
    let shown = to.display();
    if !check {
        std::fs::write(to, text).with_context(|| format!("{shown} cannot be written"))?;
        out.note(&format!("{shown} is written."));
        return Ok(());
    }
    let present = std::fs::read_to_string(to).with_context(|| format!("{shown} cannot be read"))?;
    if present != text {
        bail!("{shown} is not what the charter declares any more; write it anew without --check");
    }
    out.note(&format!("{shown} is what the charter declares."));
    Ok(())
}

fn row(entry: CharterEntry) -> Vec<String> {
    vec![entry.charter, entry.version.to_string(), entry.title, entry.published.unwrap_or_default()]
}

fn read(file: &Path) -> Result<String> {
    std::fs::read_to_string(file).with_context(|| format!("{} cannot be read", file.display()))
}

fn check(file: &Path, out: Out) -> Result<()> {
    let parsed = Charter::parse(&read(file)?);
    if let Ok(charter) = &parsed {
        charter
            .warnings()
            .iter()
            .for_each(|warning| out.note(&format!("{}: note: {warning}", file.display())));
    }
    for (query, roles) in parsed.iter().flat_map(Charter::askers).filter(|_| !out.is_json()) {
        let roles = match roles[..] {
            [] => "nobody but the backend".to_owned(),
            _ => roles.join(", "),
        };
        out.note(&format!("{}: the query {query:?} may be asked by {roles}", file.display()));
    }
    let faults = parsed.err().unwrap_or_default();
    if out.is_json() {
        out.value(&CheckAnswer { faults: faults.clone() }, String::new);
    } else if faults.is_empty() {
        out.line(&format!("{}: no fault", file.display()));
    }
    for fault in faults.iter().filter(|_| !out.is_json()) {
        out.line(&format!("{}:{fault}", file.display()));
    }
    if faults.is_empty() { Ok(()) } else { Err(FaultsFound(faults.len()).into()) }
}

pub(crate) async fn publish(api: &Api, source: &str) -> Result<CharterEntry> {
    let request =
        api.post("/charters").header("Content-Type", "application/toml").body(source.to_owned());
    api.read(request).await
}

/// Publishes every charter of a folder; the first that is refused ends it.
pub(crate) async fn publish_folder(api: &Api, folder: &Path, out: Out) -> Result<()> {
    let entries = std::fs::read_dir(folder)
        .with_context(|| format!("the folder {} cannot be read", folder.display()))?;
    let mut files: Vec<_> = entries
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|end| end == "toml"))
        .collect();
    files.sort();
    for file in files {
        if let Err(error) = publish(api, &read(&file)?).await {
            if let Some(problem) = error.downcast_ref::<Problem>() {
                out.error(&format!("{}: {}", file.display(), problem_in_words(problem)));
            }
            return Err(error)
                .with_context(|| format!("{} could not be published", file.display()));
        }
    }
    Ok(())
}

//! `rendel who`, `may`, `remove`, `amend`, `audit`, `invitation` and `key`: who is in a session, and what
//! they may do.

use anyhow::{Context as _, Result};
use rendel_service::WebhookSecret;
use rendel_wire::http::{
    AddKey, AmendParticipant, AmendedParticipant, AuditEntry, AuditList, InvitationInfo,
    InvitationList, KeyInfo, KeyList, MakeInvitation, MayAnswer, MayBody, ParticipantInfo,
    ParticipantList, RevokeTokens,
};

use crate::api::Api;
use crate::cli::{AmendArgs, AuditArgs, InvitationCommand, KeyCommand, MayArgs, RemoveArgs, Which};
use crate::out::{FaultsFound, Out, problem_in_words};
use crate::words::{doing, parse_edit};

pub(crate) async fn who(which: &Which, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let list: ParticipantList =
        api.read(api.get(&format!("/sessions/{}/participants", which.session))).await?;
    if out.is_json() {
        list.participants.iter().for_each(|one| out.value(one, String::new));
    } else if list.participants.is_empty() {
        out.note("Nobody is here.");
    } else {
        let row = |one: ParticipantInfo| {
            let here = if one.away { "away".to_owned() } else { one.connections.to_string() };
            let does = doing(one.presence.values());
            vec![one.name, one.id, one.role, here, one.holds.join(" "), does]
        };
        let rows = list.participants.into_iter().map(row).collect();
        out.table(&["NAME", "ID", "ROLE", "TABS", "HOLDS", "DOING"], &[3], rows);
    }
    Ok(())
}

pub(crate) async fn may(args: &MayArgs, out: Out) -> Result<()> {
    let edit = args.edit.as_deref().map(parse_edit).transpose()?;
    let (role, sub) = (args.role.clone(), args.sub.clone().unwrap_or_default());
    let body = MayBody { role, sub, edit, see: args.see.clone() };
    let path = format!("/sessions/{}/may", args.session);
    let answer: MayAnswer = Api::backend(&args.reach)?.post_json(&path, &body).await?;
    out.value(&answer, || {
        let verdict = if answer.allowed { "yes" } else { "no" };
        let lines = answer
            .lines
            .iter()
            .zip(&answer.says)
            .map(|(line, says)| format!("\n  {line:>4} │ {says}"));
        let mut words = format!("{verdict}: {}{}", answer.because, lines.collect::<String>());
        if let Some(problem) = answer.problem.as_ref().filter(|_| answer.allowed) {
            words += &format!("\nAs the state is now it would be {}", problem_in_words(problem));
        }
        words
    });
    if answer.takes_effect { Ok(()) } else { Err(FaultsFound(1).into()) }
}

pub(crate) async fn remove(args: &RemoveArgs, out: Out) -> Result<()> {
    let api = Api::backend(&args.reach)?;
    if args.lift {
        let path = format!("/sessions/{}/removals/{}", args.session, Api::segment(&args.sub));
        api.send(api.delete(&path)).await?;
        out.note(&format!("{} may come back to {}.", args.sub, args.session));
        return Ok(());
    }
    let path = format!("/sessions/{}/participants/{}", args.session, Api::segment(&args.sub));
    api.send(api.delete(&path).query(&[("seconds", args.seconds)])).await?;
    let back = match args.seconds {
        0 => "may come back at once".to_owned(),
        seconds => format!("may come back in {seconds} s"),
    };
    out.note(&format!("{} is out of {} and {back}.", args.sub, args.session));
    Ok(())
}

pub(crate) async fn amend(args: AmendArgs, out: Out) -> Result<()> {
    let AmendArgs { session, sub, role, name, claims, as_token, reach } = args;
    let claims = claims.map(|text| serde_json::from_str(&text));
    let claims = claims.transpose().context("--claims is no JSON object")?;
    let asked = match as_token {
        true => AmendParticipant { role: Some(None), name: Some(None), claims: Some(None) },
        false => AmendParticipant {
            role: role.map(Some),
            name: name.map(Some),
            claims: claims.map(Some),
        },
    };
    let api = Api::backend(&reach)?;
    let path = format!("/sessions/{session}/participants/{}", Api::segment(&sub));
    let stands: AmendedParticipant = api.read(api.patch(&path).json(&asked)).await?;
    out.value(&stands, || {
        let claims = stands.claims.as_ref().map(|claims| serde_json::json!(claims).to_string());
        let parts = [("role", &stands.role), ("name", &stands.name), ("claims", &claims)];
        let parts = parts.iter().filter_map(|(what, is)| Some(format!("{what} {}", is.as_ref()?)));
        match parts.collect::<Vec<_>>().join(", ") {
            none if none.is_empty() => format!("{sub} is as their tokens say."),
            parts => format!("{sub} has {parts}, whatever their tokens say."),
        }
    });
    Ok(())
}

pub(crate) async fn audit(args: &AuditArgs, out: Out) -> Result<()> {
    let api = Api::backend(&args.reach)?;
    let path = match &args.session {
        Some(session) => format!("/sessions/{session}/audit"),
        None => "/audit".to_owned(),
    };
    let list: AuditList = api.read(api.get(&path).query(&[("most", args.most)])).await?;
    if out.is_json() {
        list.entries.iter().for_each(|one| out.value(one, String::new));
    } else if list.entries.is_empty() {
        out.note("Nothing was done yet that is written down here.");
    } else {
        let row = |one: AuditEntry| vec![one.at, one.by, one.what, details(&one.detail)];
        out.table(&["AT", "BY", "WHAT", "MORE"], &[], list.entries.into_iter().map(row).collect());
    }
    Ok(())
}

fn details(detail: &serde_json::Value) -> String {
    let plain =
        |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let members = detail.as_object().into_iter().flatten().filter(|(_, value)| !value.is_null());
    members.map(|(name, value)| format!("{name}={}", plain(value))).collect::<Vec<_>>().join(" ")
}

pub(crate) async fn invitation(command: InvitationCommand, out: Out) -> Result<()> {
    match command {
        InvitationCommand::Make { session, role, uses, expires_in, reach } => {
            let asked = MakeInvitation { role, uses: Some(uses), expires_in };
            let path = format!("/sessions/{session}/invitations");
            let made: InvitationInfo = Api::backend(&reach)?.post_json(&path, &asked).await?;
            let server = reach.server.trim_end_matches('/');
            if !out.is_json() {
                out.note(&format!(
                    "good for {} until {}; this is told once:",
                    made.uses, made.until
                ));
            }
            out.value(&made, || format!("{server}{}", made.link.as_deref().unwrap_or_default()));
        }
        InvitationCommand::List { which } => {
            let api = Api::backend(&which.reach)?;
            let path = format!("/sessions/{}/invitations", which.session);
            let list: InvitationList = api.read(api.get(&path)).await?;
            if out.is_json() {
                list.invitations.iter().for_each(|one| out.value(one, String::new));
            } else if list.invitations.is_empty() {
                out.note("Nobody is invited.");
            } else {
                let row = |one: InvitationInfo| {
                    let state = if one.withdrawn { "taken back" } else { "good" };
                    vec![
                        one.id,
                        one.role,
                        format!("{}/{}", one.used, one.uses),
                        one.until,
                        state.to_owned(),
                    ]
                };
                let head = ["INVITATION", "ROLE", "USED", "UNTIL", "IS"];
                out.table(&head, &[2], list.invitations.into_iter().map(row).collect());
            }
        }
        InvitationCommand::Withdraw { session, invitation, reach } => {
            let api = Api::backend(&reach)?;
            api.send(api.delete(&format!("/sessions/{session}/invitations/{invitation}"))).await?;
            out.note("It is taken back. Who came by it stays.");
        }
    }
    Ok(())
}

pub(crate) async fn key(command: KeyCommand, out: Out) -> Result<()> {
    match command {
        KeyCommand::Derived { key_file } => {
            let key = crate::api::read_key(&key_file)?;
            let (signing, gates) = (key.signing_key(), WebhookSecret::derived(&key).reveal());
            out.value(&serde_json::json!({ "tokens": signing, "gates": gates }), || {
                format!("tokens  {signing}\ngates   {gates}")
            });
        }
        KeyCommand::List { reach } => {
            let api = Api::backend(&reach)?;
            let list: KeyList = api.read(api.get("/keys")).await?;
            if out.is_json() {
                list.keys.iter().for_each(|one| out.value(one, String::new));
            } else if list.keys.is_empty() {
                out.note(
                    "There is no key but the service key. Add one: rendel key add KID --algorithm \
                     EdDSA --file FILE",
                );
            } else {
                let row = |one: KeyInfo| {
                    vec![one.kid, one.algorithm, one.added, one.retired.unwrap_or_default()]
                };
                out.table(
                    &["KEY", "ALGORITHM", "ADDED", "RETIRED"],
                    &[],
                    list.keys.into_iter().map(row).collect(),
                );
            }
        }
        KeyCommand::Add { kid, algorithm, file, reach } => {
            let text = std::fs::read_to_string(&file)
                .with_context(|| format!("{} cannot be read", file.display()))?;
            let text = Some(text.trim().to_owned());
            let (secret, public) = if algorithm == "HS256" { (text, None) } else { (None, text) };
            let asked = AddKey { kid, algorithm, secret, public };
            let added: KeyInfo = Api::backend(&reach)?.post_json("/keys", &asked).await?;
            out.value(&added, || {
                format!("Tokens whose header names {:?} are good from now on.", added.kid)
            });
        }
        KeyCommand::Retire { kid, reach } => {
            let api = Api::backend(&reach)?;
            api.send(api.delete(&format!("/keys/{kid}"))).await?;
            out.note(&format!("{kid} is retired; tokens that it signed are not good any more."));
        }
    }
    Ok(())
}

pub(crate) async fn revoke(asked: RevokeTokens, reach: &crate::cli::Reach, out: Out) -> Result<()> {
    let api = Api::backend(reach)?;
    api.send(api.post("/tokens/revoked").json(&asked)).await?;
    out.note("Revoked. Whoever was connected by it is let go.");
    Ok(())
}

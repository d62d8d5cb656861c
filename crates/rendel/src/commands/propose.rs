//! `rendel propose`

use anyhow::Result;
use rendel_core::Settled;
use rendel_wire::http::ProposeBody;

use crate::api::{Api, token_for};
use crate::cli::ProposeArgs;
use crate::out::Out;
use crate::words::{parse_edit, update_in_words};

pub(crate) async fn run(args: &ProposeArgs, out: Out) -> Result<()> {
    let edits = args.edits.iter().map(|text| parse_edit(text)).collect::<Result<_>>()?;
    let token = token_for(&args.reach, &args.session, &args.whom).await?;
    let api = Api::new(&args.reach.server, &token)?;
    let body = ProposeBody { edits, seen: args.seen, gesture: None, note: args.note.clone() };
    let mut request = api.post(&format!("/sessions/{}/proposals", args.session)).json(&body);
    if let Some(key) = &args.idempotency_key {
        request = request.header("Idempotency-Key", key);
    }
    let update: Settled = api.read(request).await?;
    out.value(&update, || update_in_words(&update, None));
    Ok(())
}

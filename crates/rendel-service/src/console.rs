//! The console's files, which are part of the binary.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/../../web/console/dist"]
#[allow_missing = true]
struct Files;

/// What a page of the console may load: what the service itself serves, and nothing else.
const POLICY: &str = "default-src 'self'; connect-src 'self' ws: wss:; img-src 'self' data:; style-src 'self' 'unsafe-inline'; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// A file of the console, or its page for every path that the page itself resolves.
pub(crate) async fn page(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let is_asset = path.starts_with("assets/");
    let file = Files::get(path)
        .filter(|_| !path.is_empty())
        .or_else(|| if is_asset { None } else { Files::get("index.html") });
    match file {
        Some(file) => respond(&request, &file, is_asset),
        None if is_asset => HttpResponse::NotFound().finish(),
        None => HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(
            "This binary was built without the console. Build web/console first \
                (scripts/demo does), then the service.\n",
        ),
    }
}

fn respond(request: &HttpRequest, file: &EmbeddedFile, is_asset: bool) -> HttpResponse {
    let tag = format!("\"{}\"", hex::encode(&file.metadata.sha256_hash()[..16]));
    let is_known = request
        .headers()
        .get(header::IF_NONE_MATCH)
        .is_some_and(|known| known.as_bytes() == tag.as_bytes());
    let mut response = if is_known { HttpResponse::NotModified() } else { HttpResponse::Ok() };
    // The names of assets change with their contents.
    let cache = if is_asset { "public, max-age=31536000, immutable" } else { "no-cache" };
    response
        .insert_header((header::ETAG, tag))
        .insert_header((header::CACHE_CONTROL, cache))
        .insert_header((header::CONTENT_SECURITY_POLICY, POLICY))
        .insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((header::REFERRER_POLICY, "no-referrer"));
    if is_known {
        response.finish()
    } else {
        response.content_type(file.metadata.mimetype()).body(file.data.to_vec())
    }
}

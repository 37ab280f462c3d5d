//! The console: the built pages, embedded in the program.
//!
//! All paths of the console's pages lead to one document. Its files are under `/assets` with a content digest in their names, so
//! a browser may cache them for ever.

use axum::http::{HeaderName, HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Pages;

/// The content security policy: nothing from elsewhere, nothing inline, no frames.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; \
                      base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// A page or a file of the console.
pub async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if let Some(file) = Pages::get(path).filter(|_| !path.is_empty()) {
        let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
        return answer(&file, keep);
    }
    // A file requested by a page of an earlier release may be gone; a page always exists.
    match Pages::get("index.html").filter(|_| !path.starts_with("assets/")) {
        Some(page) => answer(&page, "no-cache"),
        None => (StatusCode::NOT_FOUND, "this file does not exist; reload the page").into_response(),
    }
}

fn answer(file: &rust_embed::EmbeddedFile, keep: &'static str) -> Response {
    let kind = HeaderValue::from_str(file.metadata.mimetype()).unwrap_or(HeaderValue::from_static("application/octet-stream"));
    let headers: [(HeaderName, HeaderValue); 5] = [
        (header::CONTENT_TYPE, kind),
        (header::CACHE_CONTROL, HeaderValue::from_static(keep)),
        (header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(POLICY)),
        (header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff")),
        (header::REFERRER_POLICY, HeaderValue::from_static("no-referrer")),
    ];
    (headers, file.data.clone()).into_response()
}

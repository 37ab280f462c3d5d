//! Refuses requests that no handler should have to think of, and gives every refusal one form.

use super::problem::Problem;
use axum::body::to_bytes;
use axum::extract::Request;
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

/// Bytes of a refusal that is given the form of a problem, at most.
const REFUSAL: usize = 16 << 10;

/// Answers 400 to a request with several `Host` headers (RFC 9112, 3.2) or a NUL character in its address, which the database
/// cannot store. What axum refuses in plain text, such as a query that cannot be read, becomes a problem.
pub async fn check(request: Request, next: Next) -> Response {
    if let Err(problem) = well_formed(request.uri(), request.headers()) {
        return problem.into_response();
    }
    as_problem(next.run(request).await).await
}

fn well_formed(uri: &Uri, headers: &HeaderMap) -> Result<(), Problem> {
    let bad = |says: &str| Err(Problem::new(StatusCode::BAD_REQUEST, says));
    if headers.get_all(header::HOST).iter().nth(1).is_some() {
        return bad("the request has more than one Host header");
    }
    let address = uri.path_and_query().map_or("", |address| address.as_str());
    if address.contains("%00") {
        return bad("the address contains a NUL character (%00), which is not allowed");
    }
    Ok(())
}

async fn as_problem(response: Response) -> Response {
    let status = response.status();
    let plain = response.headers().get(header::CONTENT_TYPE).is_some_and(|kind| kind.as_bytes().starts_with(b"text/plain"));
    // An answer without a body to a method that the path does not have comes with no content type.
    let empty = status == StatusCode::METHOD_NOT_ALLOWED && !response.headers().contains_key(header::CONTENT_TYPE);
    if !(status.is_client_error() && (plain || empty)) {
        return response;
    }
    let (mut parts, body) = response.into_parts();
    let text = to_bytes(body, REFUSAL).await.unwrap_or_default();
    let says = match text.is_empty() {
        true => "this path does not have that method".to_owned(),
        false => String::from_utf8_lossy(&text).into_owned(),
    };
    let problem = Problem::new(status, says).into_response();
    parts.headers.remove(header::CONTENT_LENGTH);
    let (made, body) = problem.into_parts();
    parts.headers.extend(made.headers);
    Response::from_parts(parts, body)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_refusal_in_plain_text_becomes_a_problem_and_an_answer_stays() {
        let refusal = (StatusCode::BAD_REQUEST, "limit: invalid digit").into_response();
        let problem = as_problem(refusal).await;
        assert_eq!(problem.headers()[header::CONTENT_TYPE], "application/problem+json");
        let problem: Problem = serde_json::from_slice(&to_bytes(problem.into_body(), REFUSAL).await.unwrap()).unwrap();
        assert_eq!((problem.status, problem.title.as_str()), (400, "limit: invalid digit"));
        let answer = as_problem((StatusCode::OK, "text").into_response()).await;
        assert_eq!(answer.headers()[header::CONTENT_TYPE], "text/plain; charset=utf-8");
    }

    #[test]
    fn two_hosts_and_nul_are_refused() {
        let hosts = |names: &[&str]| HeaderMap::from_iter(names.iter().map(|name| (header::HOST, name.parse().unwrap())));
        let mut twice = hosts(&["localhost"]);
        twice.append(header::HOST, "elsewhere.example".parse().unwrap());
        assert!(well_formed(&Uri::from_static("/api/messages"), &twice).is_err());
        assert!(well_formed(&Uri::from_static("/api/messages?key=a%00b"), &hosts(&["localhost"])).is_err());
        assert!(well_formed(&Uri::from_static("/api/messages?key=a%2500b"), &hosts(&["localhost"])).is_ok());
    }
}

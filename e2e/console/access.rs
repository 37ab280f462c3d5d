//! Sign-in to the console.

use super::browser::Browser;
use crate::scene::Scene;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_browser_gets_in_by_a_link_that_works_once_and_out_again() {
    let scene = Scene::open().await;
    let browser = Browser::new(&scene.service).await;
    browser.go("/messages").await;
    browser.comes_to("/sign-in").await;
    browser.read("main", "wirewatch console").await;
    assert_eq!(browser.accessibility().await, "");

    let (_, link, _) = scene.service.command(&["console"]);
    browser.driver.goto(link.trim()).await.unwrap();
    browser.comes_to("/").await;
    browser.see("[data-link=live]").await;
    let cookies = browser.driver.get_all_cookies().await.unwrap();
    let cookie = cookies.iter().find(|cookie| cookie.name.starts_with("wirewatch-")).expect("a cookie");
    assert!(browser.script("return document.cookie").await.as_str().unwrap().is_empty(), "no script can read it: {cookie:?}");

    let other = Browser::new(&scene.service).await;
    other.driver.goto(link.trim()).await.unwrap();
    other.comes_to("/sign-in?link=used").await;
    other.read("[role=alert]", "used already").await;

    let status = browser.script("return fetch('/api/me', { method: 'DELETE' }).then((answer) => answer.status)").await;
    assert_eq!(status, 204);
    browser.go("/orders").await;
    browser.comes_to("/sign-in").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_cookie_alone_changes_nothing_from_elsewhere() {
    let scene = Scene::open().await;
    let link = scene.service.command(&["console"]).1;
    let client = wirewatch_testkit::http().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let entered = client.get(link.trim()).send().await.unwrap();
    let cookie = entered.headers()["set-cookie"].to_str().unwrap();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = cookie.split(';').next().unwrap();
    let ask = |method: reqwest::Method, origin: Option<String>| {
        let request = client.request(method, scene.service.url("/api/me")).header("cookie", cookie);
        let request = origin.into_iter().fold(request, |request, origin| request.header("origin", origin));
        async { request.send().await.unwrap().status().as_u16() }
    };
    assert_eq!(ask(reqwest::Method::GET, None).await, 200);
    assert_eq!(ask(reqwest::Method::DELETE, None).await, 401, "without a page that asks");
    assert_eq!(ask(reqwest::Method::DELETE, Some("http://evil.example".to_owned())).await, 403);
    assert_eq!(ask(reqwest::Method::GET, Some("http://127.0.0.1:1".to_owned())).await, 403, "another port is another page");
    assert_eq!(ask(reqwest::Method::DELETE, Some(scene.service.url(""))).await, 204);
    assert_eq!(ask(reqwest::Method::GET, None).await, 401, "signed out, a copy of the cookie is worth nothing");
    let page = client.get(scene.service.url("/orders/MF-1")).send().await.unwrap();
    assert!(page.headers()["content-security-policy"].to_str().unwrap().contains("default-src 'self'"));
    let gone = client.get(scene.service.url("/assets/gone-1.js")).send().await.unwrap();
    assert_eq!(gone.status(), 404, "a file of another build is no page");
    let nothing = client.get(scene.service.url("/api/nothing")).bearer_auth("x").send().await.unwrap();
    assert_eq!(
        (nothing.status().as_u16(), nothing.headers()["content-type"].to_str().unwrap()),
        (404, "application/problem+json")
    );
}

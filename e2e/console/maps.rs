//! The map table: rules changed as one types, errors in place, other documents.

use super::browser::Browser;
use crate::scene::Scene;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_map_gives_is_seen_as_its_rules_are_typed() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go("/maps").await;
    browser.click("[data-map=po-to-order] a").await;
    browser.read("[data-target=reference]", "MF-20417").await;
    browser.read("[data-part=standing]", "10 of the source's 32 fields are not used").await;
    browser.see("[data-source=BEG03][data-used=true]").await;
    browser.see("[data-source=REF02][data-used=false]").await;
    // The second document of the sample.
    browser
        .script("const at = document.querySelectorAll('main select')[1]; at.value = 1; at.dispatchEvent(new Event('change'))")
        .await;
    browser.read("[data-target=reference]", "MF-20418").await;
    let rules = browser.edited().await;
    browser.edit(&rules.replace("\"BEG03\"", "\"'PO ' & BEG03\"")).await;
    browser.read("[data-target=reference]", "PO MF-20418").await;
    browser.read("main", "Store as draft").await;
    // Findings are shown at their line; the last good result stays visible.
    browser.edit(&rules.replace("reference           = \"BEG03\"", "")).await;
    browser.read("[data-part=standing]", "1 required field is not filled").await;
    browser.read("[data-finding=error]", "`reference` is required").await;
    browser.read("[data-target=reference]", "PO MF-20418").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("running version").await;
    browser.read("[data-part=standing]", "19 fields filled").await;
    // The document that the map reads beside its source is requested, and chosen as a file.
    let beside = rules.replace("\"BEG03\"", "\"first(matching($names, no, BEG03)).name\"") + "\n[with]\nnames = \"\"\n";
    browser.edit(&beside).await;
    browser.read("[data-beside=names]", "no document").await;
    let names = "const carried = new DataTransfer(); \
                 carried.items.add(new File(['[{ \"no\": \"MF-20418\", \"name\": \"Bee\" }]'], 'names.json')); \
                 const at = document.querySelector('[data-beside=names] input'); at.files = carried.files; \
                 at.dispatchEvent(new Event('change'))";
    browser.script(names).await;
    browser.read("[data-beside=names]", "names.json").await;
    browser.read("[data-target=reference]", "Bee").await;
    assert_eq!(browser.accessibility().await, "");
    // A rule without a value is marked at its line; the last good result stays visible.
    browser.edit(&rules.replace("\"BEG03\"", "\"date(BEG03)\"")).await;
    browser.read("[data-part=standing]", "1 rule has an error").await;
    browser.read("[data-finding=error]", "reference = date(BEG03)").await;
    browser.see(".cm-lintRange-error").await;
    browser.read("[data-target=reference]", "Bee").await;
    browser.read("[data-source=BEG03]", "Purchase Order Number").await;
    // A file that is not a JSON document is reported.
    let drop = "const carried = new DataTransfer(); carried.items.add(new File(['ISA'], 'x.edi')); \
                document.querySelector('main h1').dispatchEvent(new DragEvent('drop', { dataTransfer: carried, bubbles: true }))";
    browser.script(drop).await;
    browser.read("[data-part=standing]", "no 850 in 004010").await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn proposals_are_taken_one_by_one_and_kept_as_a_draft() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go("/maps/po-to-order").await;
    browser.read("[data-target=reference]", "MF-20417").await;
    let rules = browser.edited().await;
    let without: String = rules.lines().filter(|line| !line.starts_with("reference ")).map(|line| format!("{line}\n")).collect();
    browser.edit(&without).await;
    // Required fields without a rule are shown with their proposals.
    browser.read("[data-part=open]", "1 required field without a rule").await;
    browser.read("[data-open=reference]", "BEG03").await;
    assert_eq!(browser.accessibility().await, "");
    browser.click("[data-open=reference] button").await;
    browser.read("[data-target=reference]", "MF-20417").await;
    browser.see_no("[data-open=reference]").await;
    let taken = browser.edited().await;
    assert!(taken.contains("reference           = \"BEG03\"") && taken.lines().next() == rules.lines().next(), "{taken}");
    browser.press("Store as draft…").await;
    browser.read("[role=dialog]", "running version").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("Store the draft").await;
    browser.read("[data-part=draft]", "wirewatch map take po-to-order").await;
    browser.go("/maps").await;
    browser.read("[data-map=po-to-order]", "has a draft").await;
    browser.click("[data-map=po-to-order] a").await;
    browser.read("[data-part=draft]", "Show the draft").await;
    browser.press("Delete the draft").await;
    browser.see_no("[data-part=draft]").await;
    browser.leave().await;
}

/// A change is run on the workspace's cases, and deployed where all of them pass or a person says so.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_changed_map_is_tried_on_the_cases_and_deployed() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go("/maps/po-to-order").await;
    browser.read("[data-target=reference]", "MF-20417").await;
    let rules = browser.edited().await;
    browser.edit(&rules.replace("\"BEG03\"", "\"'PO ' & BEG03\"")).await;
    browser.press("Run cases and deploy…").await;
    browser.read("[data-case=orders-of-marrowfield]", "expected MF-20417, found PO MF-20417").await;
    let deploy = "//button[normalize-space(.)='Deploy']";
    let enabled = async || browser.driver.find(thirtyfour::By::XPath(deploy)).await.unwrap().is_enabled().await.unwrap();
    assert!(!enabled().await, "a failed case keeps it from being deployed");
    assert_eq!(browser.accessibility().await, "");
    browser.press("Back").await;
    // A change of words only passes every case.
    browser.edit(&rules.replace("\"BEG03\"", "\"upper(BEG03)\"")).await;
    browser.press("Run cases and deploy…").await;
    browser.read("[data-part=cases]", "0 failed").await;
    browser.click("#deploy-why").await;
    browser.type_keys("numbers in capitals").await;
    browser.press("Deploy").await;
    browser.see_no("[role=dialog]").await;
    browser.read("main", "changed").await;
    assert!(browser.edited().await.contains("upper(BEG03)"));
    let (_, out, _) = scene.service.command(&["releases"]);
    assert!(out.contains("numbers in capitals"), "{out}");
    browser.go("/maps").await;
    browser.read("[data-map=po-to-order] [data-part=changed]", "by owner").await;
    browser.leave().await;
}

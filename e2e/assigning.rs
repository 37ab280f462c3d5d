//! Who works on what needs attention, in the client and the API.

use crate::correcting::with_a_wrong_item;
use serde_json::json;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_needs_attention_is_assigned_until_it_is_over() {
    let (scene, reason) = with_a_wrong_item(1).await;
    let service = &scene.service;
    let (code, out, _) = service.command(&["assign"]);
    assert!(code == 0 && out.contains("nothing that needs attention is assigned"), "{out}");
    let (code, out, err) = service.command(&["assign", &reason, "--to", "Ada", "--note", "asking the partner"]);
    assert_eq!((code, out.trim()), (0, format!("reason {reason} is assigned to Ada").as_str()), "{err}");
    let (_, out, _) = service.command(&["reasons"]);
    assert!(out.contains("ASSIGNED TO") && out.contains("Ada"), "{out}");
    let overview = service.get("/api/overview").await.unwrap();
    let assigned = &overview["assignments"][0];
    assert_eq!(
        (&assigned["kind"], &assigned["to"], &assigned["note"]),
        (&json!("reason"), &json!("Ada"), &json!("asking the partner"))
    );
    // Another person takes it over; what does not need attention cannot be assigned.
    assert_eq!(service.command(&["assign", &reason]).0, 0);
    assert_ne!(service.get("/api/assignments").await.unwrap()[0]["to"], "Ada");
    for (problem, code, says) in [
        (vec!["assign", "erp"], 1, "`erp` does not need attention"),
        (vec!["assign", "erp", "--kind", "connection"], 1, "the connection erp does not need attention"),
        (vec!["assign", "erp", "--kind", "connection", "--remove"], 1, "is not assigned to anybody"),
        (vec!["assign", &reason, "--kind", "person"], 2, "person"),
        (vec!["assign", "--remove"], 2, "PROBLEM"),
    ] {
        let (got, _, err) = service.command(&problem);
        assert!(got == code && err.contains(says), "{problem:?}: {got} {err}");
    }
    for bad in [json!({ "kind": "reason", "name": "\u{0}" }), json!({ "kind": "reason", "name": "x", "to": "\u{0}" })] {
        assert_eq!(service.put("/api/assignments", &bad).await.0, 400, "{bad}");
    }
    // An assignment belongs to one problem: the next problem of the same name is nobody's.
    let hold = |why| service.command(&["connection", "hold", "erp", "--why", why]).0;
    let held = async |held: bool| {
        eventually("the hold has changed", || async {
            let (_, status) = service.ask("/api/status").await;
            (status["on_hold"].as_array()?.iter().any(|one| one["connection"] == "erp") == held).then_some(())
        })
        .await;
    };
    assert_eq!(hold("a new server"), 0);
    held(true).await;
    assert_eq!(service.command(&["assign", "erp", "--to", "Ben"]).0, 0);
    let (_, out, _) = service.command(&["status"]);
    assert!(out.contains("connection erp is assigned to Ben since "), "{out}");
    assert_eq!(service.command(&["connection", "resume", "erp"]).0, 0);
    held(false).await;
    assert_eq!(service.get("/api/assignments").await.unwrap().as_array().unwrap().len(), 1, "the one of the reason");
    assert_eq!(hold("again"), 0);
    held(true).await;
    assert_eq!(service.get("/api/assignments").await.unwrap().as_array().unwrap().len(), 1);
    assert_eq!(service.command(&["connection", "resume", "erp"]).0, 0);
    let (code, out, _) = service.command(&["assign", &reason, "--remove"]);
    assert!(code == 0 && out.contains("is assigned to nobody"), "{out}");
    assert_eq!(service.get("/api/assignments").await.unwrap(), json!([]));
}

//! The example `service`, asked over HTTP.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

mod support;

#[path = "../examples/service.rs"]
#[allow(dead_code, unreachable_pub, reason = "its own main is not run")]
mod service;

use serde_json::{Value, json};
use support::engines;

/// The answer of the service: the status, and the body.
struct Client {
    base: String,
}

impl Client {
    fn send(
        &self,
        method: &str,
        path: &str,
        agency: Option<&str>,
        body: Option<Value>,
    ) -> (u16, Value) {
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.base));
        let request = match agency {
            Some(agency) => request.header("agency", agency),
            None => request,
        };
        let request = request.header("content-type", "application/json");
        let body = body.map(|body| body.to_string()).unwrap_or_default();
        let agent: ureq::Agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .build()
            .into();
        let mut answer = agent.run(request.body(body).unwrap()).unwrap();
        let text = answer.body_mut().read_to_string().unwrap();
        (answer.status().as_u16(), serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    fn text(&self, path: &str, agency: &str) -> String {
        let request = ureq::get(format!("{}{path}", self.base)).header("agency", agency);
        request.call().unwrap().body_mut().read_to_string().unwrap()
    }

    fn get(&self, path: &str, agency: &str) -> (u16, Value) {
        self.send("GET", path, Some(agency), None)
    }
}

/// Returns the path of a list of specimens.
fn specimens(parameters: &[(&str, &str)]) -> String {
    let mut query = url::form_urlencoded::Serializer::new(String::new());
    format!("/specimens?{}", query.extend_pairs(parameters).finish())
}

/// Filters, sorts and properties of requests, and their mistakes.
fn check_requests(client: &Client, engine: &str) {
    let path = specimens(&[
        ("filter", "assays.ppm > 900"),
        ("properties", "label,region,results"),
        ("sortby", "-results,label"),
        ("limit", "3"),
    ]);
    let (status, page) = client.get(&path, "1");
    assert_eq!((status, page["rows"].as_array().map(Vec::len)), (200, Some(3)), "on {engine}");
    let row = page["rows"][0].as_object().unwrap();
    assert_eq!(row.keys().collect::<Vec<_>>(), ["label", "region", "results"]);

    // The same filter as JSON; another agency sees other rows.
    let json = r#"{"op":">","args":[{"property":"assays.ppm"},900]}"#;
    let path = specimens(&[("filter-lang", "cql2-json"), ("filter", json)]);
    assert_eq!(client.get(&path, "1").1["specimens"], page["specimens"], "on {engine}");
    assert_ne!(client.get(&path, "2").1["specimens"], page["specimens"], "on {engine}");

    let path = specimens(&[("filter", "depth > 300 AND rock = 'cheese'")]);
    let (status, answer) = client.get(&path, "1");
    assert_eq!(status, 400, "on {engine}");
    let mistake = &answer["problem"]["mistake"];
    assert_eq!(
        [&mistake["kind"], &mistake["offset"], &mistake["length"]],
        [&json!("invalid-value"), &json!(23), &json!(8)]
    );
    assert_eq!(
        answer["problem"]["marked"],
        "depth > 300 AND rock = 'cheese'\n                       ^^^^^^^^"
    );
    for wrong in [
        [("sortby", "-agency_id"), ("page", "1")],
        [("properties", "label,password"), ("page", "1")],
        [("filter", "TRUE"), ("filter-lang", "sql")],
        [("filter", "withdrawn_at IS NULL"), ("page", "1")],
        [("filters", "TRUE"), ("page", "1")],
    ] {
        assert_eq!(client.get(&specimens(&wrong), "1").0, 400, "{wrong:?} on {engine}");
    }
    let (_, schema) = client.get("/specimens/parameters", "1");
    assert_eq!(schema["$defs"]["queryables"]["properties"]["depth"]["type"], "number");
}

#[test]
fn agencies_see_their_own_and_nothing_is_lost() {
    for engine in engines() {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let folder = tempfile::tempdir().unwrap();
        // A file of its own where there can be one; on a server what is written is taken back.
        let url = match engine.name {
            "SQLite" => format!("sqlite:{}?mode=rwc", folder.path().join("core.db").display()),
            _ => engine.url.clone(),
        };
        support::shed::sheds();
        let address = runtime
            .block_on(service::start(&url, "127.0.0.1:0"))
            .unwrap();
        let client = Client { base: format!("http://{address}") };

        let (status, page) = client.get(
            &specimens(&[
                ("filter", "rock = 'granite' AND depth >= 100"),
                ("limit", "5"),
                ("page", "2"),
            ]),
            "1",
        );
        assert_eq!((status, &page["page"]), (200, &json!(2)), "on {}", engine.name);
        let rows = page["rows"].as_array().unwrap();
        assert!(
            rows.iter()
                .all(|row| row["rock"] == "granite" && row["top_m"].as_f64() >= Some(100.0))
        );
        let all = |agency| {
            client.get("/specimens", agency).1["specimens"]
                .as_u64()
                .unwrap()
        };
        let before = ["1", "2", "3", "4"].map(all);
        assert_eq!(before[3], 0, "nobody's agency");

        // A report in SQL, and a site that the procedure of the house closes, or the library where there is none.
        let report = |agency| client.get("/report", agency).1.as_array().unwrap().clone();
        let (ours, theirs) = (report("1"), report("2"));
        assert!(ours.len() > 1 && !theirs.is_empty(), "on {}", engine.name);
        assert!(ours.iter().all(|site| site["metres"].as_f64() > Some(0.0)), "{ours:?}");
        assert!(ours.iter().all(|site| !theirs.contains(site)), "on {}", engine.name);
        assert_eq!(client.send("GET", "/report", None, None).0, 401);
        let close = |agency, on: Value| {
            let body = Some(json!({ "on": on }));
            client
                .send("POST", "/sites/1/closing", Some(agency), body)
                .0
        };
        assert_eq!(close("2", json!("2025-01-31")), 404, "on {}", engine.name);
        assert_eq!(close("1", json!("2025-01-31")), 204, "on {}", engine.name);
        assert_eq!(report("1").len(), ours.len() - 1, "on {}", engine.name);
        assert_eq!(close("1", Value::Null), 204, "on {}", engine.name);
        assert_eq!((report("1"), report("2")), (ours, theirs), "on {}", engine.name);

        // Somebody else's, and nobody's.
        let id = rows[0]["id"].as_i64().unwrap();
        let own = format!("/specimens/{id}");
        assert_eq!(client.get(&own, "1").0, 200);
        assert_eq!(client.get(&own, "2").0, 404);
        let missing = client.send("GET", &own, None, None);
        assert_eq!(missing, (401, json!({ "problem": "say who asks in the header `agency`" })));
        assert_eq!(client.send("DELETE", &own, Some("2"), None).0, 404);

        // Changed by a body that names some columns, and set back.
        let change = |agency, body| client.send("PATCH", &own, Some(agency), Some(body));
        let (status, changed) = change("1", json!({ "rock": "gneiss", "top_m": 1.5 }));
        assert_eq!(
            (status, &changed["rock"], &changed["top_m"]),
            (200, &json!("gneiss"), &json!(1.5))
        );
        assert_eq!(changed["label"], rows[0]["label"], "on {}", engine.name);
        assert_eq!(change("1", json!({})).1, changed, "nothing to change");
        assert_eq!(change("2", json!({ "top_m": 2.5 })).0, 404, "somebody else's");
        assert_eq!(change("1", json!({ "withdrawn_at": null })).0, 422, "a body cannot restore");
        assert_eq!(change("1", json!({ "id": 7 })).0, 422, "nor move a row");
        let back = json!({ "rock": rows[0]["rock"], "top_m": rows[0]["top_m"] });
        assert_eq!(change("1", back).1, rows[0], "on {}", engine.name);
        // All of the agency's as CSV, and nobody's.
        let download = client.text("/specimens.csv", "1");
        assert_eq!(download.lines().next(), Some("label,rock,top_m,base_m,taken_on"));
        assert_eq!(download.lines().count() as u64, all("1") + 1, "on {}", engine.name);
        assert!(download.contains("nepheline syenite"), "{download}");
        assert_eq!(client.send("GET", "/specimens.csv", None, None).0, 401);

        // Withdrawn and restored.
        assert_eq!(client.send("DELETE", &own, Some("1"), None).0, 204);
        assert_eq!(client.get(&own, "1").0, 404);
        assert_eq!(all("1"), before[0] - 1);
        let restore = format!("{own}/restore");
        assert_eq!(client.send("POST", &restore, Some("3"), None).0, 404);
        let (status, row) = client.send("POST", &restore, Some("1"), None);
        assert_eq!((status, &row["id"], &row["withdrawn_at"]), (200, &json!(id), &Value::Null));
        assert_eq!(client.send("POST", &restore, Some("1"), None).0, 404, "it is not withdrawn");

        // A refused row is reported by its status, and never with SQL.
        let new = |label: &str, base_m: f64| {
            json!({
                "borehole_id": row["borehole_id"], "label": label, "rock": "gneiss",
                "top_m": 10.5, "base_m": base_m, "taken_on": "2024-05-01",
            })
        };
        let post = |agency, body| client.send("POST", "/specimens", Some(agency), Some(body));
        let label = row["label"].as_str().unwrap();
        assert_eq!(post("1", new(label, 11.0)).0, 409);
        assert_eq!(post("1", new("SV-1", 9.0)).0, 422);
        let refused = (422, json!({ "problem": "it refers to a row that does not exist" }));
        assert_eq!(post("2", new("SV-1", 11.0)), refused, "a borehole of another agency");
        check_requests(&client, engine.name);
        assert_eq!(client.get("/specimens?page=0", "1").0, 400);
        let (status, stored) = post("1", new("SV-1", 11.0));
        assert_eq!((status, &stored["label"]), (201, &json!("SV-1")), "on {}", engine.name);
        assert_eq!(all("1"), before[0] + 1);
        // The audit trail has what was stored, and nothing that was refused.
        let (_, audit) = client.get("/audit", "1");
        let entry = |operation: &str| json!(["specimen", operation, 1]);
        let last = &audit.as_array().unwrap()[..3];
        assert_eq!(last, [entry("INSERT"), entry("UPDATE"), entry("UPDATE")], "on {}", engine.name);
        assert_eq!(client.get("/audit", "4"), (200, json!([])), "on {}", engine.name);
        let (status, pool) = client.send("GET", "/pool", None, None);
        assert_eq!(
            (status, &pool["waiting"], &pool["waits_timed_out"]),
            (200, &json!(0), &json!(0))
        );
        assert_eq!((&pool["connections"], &pool["closed"]), (&pool["opened"], &json!(0)));
        support::shed::forget(&engine, stored["id"].as_i64().unwrap());
    }
}

//! Retired nodes: listed, and brought back.

use crate::error::ClientError;
use crate::server::{ListArguments, Server, labels};
use constans_terminal::{harmless, time};
use constans_wire::retired::{BringBack, RetiredNode};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use uuid::Uuid;

async fn retired_of(
    server: &Server,
    name: Option<&str>,
    which: &ListArguments,
) -> Result<Vec<RetiredNode>, ClientError> {
    let name =
        name.map(|name| format!("?name={}", utf8_percent_encode(name, NON_ALPHANUMERIC))).unwrap_or_default();
    server.get_all(&which.address(&format!("/api/retired-nodes{name}"))).await
}

/// Lists retired nodes.
pub async fn retired(server: &Server, name: Option<&str>, which: &ListArguments) -> Result<(), ClientError> {
    let nodes = retired_of(server, name, which).await?;
    if server.says_json(&nodes) {
        return Ok(());
    }
    if nodes.is_empty() {
        println!(
            "{}",
            name.map_or_else(
                || "no node is retired".to_owned(),
                |name| format!("no retired node fits {name}")
            )
        );
        return Ok(());
    }
    for node in &nodes {
        let by = node.retired_by.as_ref().map(|who| format!(" by {}", harmless(who))).unwrap_or_default();
        let change = node.change.map(|no| format!(" (C{no})")).unwrap_or_default();
        let because =
            node.because.as_ref().map(|because| format!(": \"{}\"", harmless(because))).unwrap_or_default();
        println!(
            "{}   joined {}, retired {}{by}{change}{because}\n   labels  {}\n   id  {}",
            harmless(&node.name),
            time(node.joined_at),
            time(node.retired_at),
            labels(&node.labels),
            node.id
        );
    }
    println!("Next: constans node bring-back NAME");
    Ok(())
}

/// Brings a retired node back.
pub async fn bring_back(server: &Server, wanted: &str, name: Option<String>) -> Result<(), ClientError> {
    let is_id = wanted.parse::<Uuid>().is_ok();
    let mut fitting = retired_of(server, Some(wanted).filter(|_| !is_id), &ListArguments::default()).await?;
    fitting.retain(|node| node.name == wanted || node.id.to_string() == wanted);
    let node = match fitting.as_slice() {
        [one] => one,
        [] => {
            return Err(ClientError::new(
                format!("no retired node has the name or id {wanted}"),
                "constans node retired lists them",
            ));
        }
        several => {
            return Err(ClientError::new(
                format!("{} retired nodes had the name {wanted}", several.len()),
                "name it by its id: constans node retired lists them",
            ));
        }
    };
    let path = format!("/api/retired-nodes/{}/bring-back", node.id);
    let name: String = server.post(&path, &BringBack { name }).await?;
    if server.says_json(&name) {
        return Ok(());
    }
    println!(
        "{name} is of the fleet again, with its labels and its history; groups that named it do not name it again"
    );
    println!(
        "Next: on its machine, constans-agent check-in; if it joined elsewhere or lost its key, let it join and approve it with --as {name}"
    );
    Ok(())
}

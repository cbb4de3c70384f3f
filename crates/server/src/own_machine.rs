//! The machine that a server runs on: a node of the fleet like others, but for what would stop the server or its database.

use crate::settings::Settings;
use constans_core::machine::machine_name;
use constans_core::state::Untouchable;
use sqlx::postgres::PgConnectOptions;

/// What a server knows of its own machine.
#[derive(Debug, Clone)]
pub struct OwnMachine {
    /// Its name; none if it has no machine-id.
    pub name: Option<String>,
    /// What no clause may stop, remove or alter on it.
    pub untouchable: Vec<Untouchable>,
}

/// What no clause may touch on any node.
pub fn of_agent() -> Untouchable {
    Untouchable {
        what: "the agent itself",
        paths: vec!["/var/lib/constans".to_owned(), "/usr/bin/constans-agent".to_owned()],
        names: vec!["constans-agent".to_owned(), "constans-agent.service".to_owned()],
        name_starts: Vec::new(),
    }
}

impl OwnMachine {
    /// Finds out what is known of the machine that this process runs on.
    pub fn find(settings: &Settings) -> Self {
        let name = std::fs::read_to_string(&settings.machine_id).ok().and_then(|id| machine_name(&id));
        let protected =
            std::path::absolute(&settings.protected).unwrap_or_else(|_| settings.protected.clone());
        let mut untouchable = vec![
            of_agent(),
            Untouchable {
                what: "the server of Constans",
                paths: vec![
                    protected.display().to_string(),
                    "/etc/constans/server.env".to_owned(),
                    "/usr/bin/constans-server".to_owned(),
                ],
                names: vec!["constans-server".to_owned(), "constans-server.service".to_owned()],
                name_starts: Vec::new(),
            },
        ];
        if is_here(&settings.database) {
            untouchable.push(Untouchable {
                what: "the server's database",
                paths: vec!["/var/lib/postgresql".to_owned(), "/var/lib/pgsql".to_owned()],
                names: vec!["postgres".to_owned()],
                name_starts: vec!["postgresql".to_owned()],
            });
        }
        Self { name, untouchable }
    }
}

/// Returns whether a database is on this machine, as far as its address says.
fn is_here(database: &str) -> bool {
    let Ok(options) = database.parse::<PgConnectOptions>() else { return true };
    let host = options.get_host();
    let is_loopback =
        host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    let own = rustix::system::uname();
    options.get_socket().is_some()
        || host.starts_with('/')
        || host == "localhost"
        || is_loopback
        || own.nodename().to_str().is_ok_and(|own| own == host)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_database_is_here_by_loopback_by_socket_and_not_by_the_name_of_another_machine() {
        for here in [
            "postgres://constans@localhost/constans",
            "postgres://constans:x@127.0.0.1:5433/constans",
            "postgres://constans@[::1]/constans",
            "postgres://%2Frun%2Fpostgresql/constans",
            "postgres:///constans?host=/run/postgresql",
        ] {
            assert!(is_here(here), "{here}");
        }
        assert!(!is_here("postgres://constans@db.skerry.example/constans"));
    }
}

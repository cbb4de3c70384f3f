//! Lists that are read in pages: each page goes on after the last row of the one before, whatever rows have the same moment.

use crate::database::Database;
use constans_server::store::cursor::{Cursor, PageRange};
use constans_server::store::{episode, freeze, invitation, joining, person, refused_request, release, token};

/// The first page of a list.
pub fn first_page() -> PageRange {
    PageRange { after: None, size: 1_000 }
}

/// Reads a list whole and in pages of two rows, and returns what its rows are called, if both are the same.
macro_rules! read_in_pages {
    ($range:ident => $rows:expr, $cursor:expr, $shown:expr) => {{
        let $range = first_page();
        let whole: Vec<_> = $rows.iter().map($shown).collect();
        let mut in_pages = Vec::new();
        let mut after: Option<Cursor> = None;
        loop {
            let $range = PageRange { after: after.take(), size: 2 };
            let rows = $rows;
            assert!(rows.len() <= 3, "one more than the page has");
            in_pages.extend(rows.iter().take(2).map($shown));
            if rows.len() <= 2 {
                break;
            }
            after = Some($cursor(&rows[1]));
        }
        assert_eq!(in_pages, whole);
        whole
    }};
}

#[tokio::test]
async fn pages_one_after_the_other_are_the_whole_list() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let kiosk = database.node("kiosk-auken-1").await;
    database
        .run(&format!(
            "insert into person (name, roles, created_at) values ('tor.havik', '{{operator}}', now()), ('pia.lund', '{{author}}', now()), ('ilse.maren', '{{administrator}}', now() + interval '1 second');
             insert into release (kit, version, digest, summary, requires, files, published_by, published_at)
                 select 'gate-reader', '1.' || n || '.0', n::text, '', '{{}}', '[]', 'pia.lund', '2026-11-20T08:00:00Z'::timestamptz + interval '1 day' * (n / 3)
                 from generate_series(0, 6) n;
             insert into release (kit, version, digest, summary, requires, files, published_by, published_at)
                 values ('quay-base', '1.3.0', 'q', '', '{{}}', '[]', 'pia.lund', '2026-11-21T08:00:00Z');
             insert into invitation (id, secret_digest, labels, uses, uses_left, made_by, expires_at, made_at)
                 select gen_random_uuid(), '', '{{}}', 1, 1, 'tor.havik', now() + interval '1 hour', '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * (n / 2)
                 from generate_series(0, 4) n;
             insert into joining_request (id, invitation, spki_digest, name, request, address, about, requested_at)
                 select gen_random_uuid(), (select id from invitation limit 1), n::text::bytea, 'gate-' || n, '', '', '{{}}', '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * (n / 2)
                 from generate_series(0, 4) n;
             insert into token (id, digest, person, name, made_for, created_at)
                 select gen_random_uuid(), n::text::bytea, 'pia.lund', 'token ' || n, 'program', '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * (n / 3)
                 from generate_series(0, 4) n;
             insert into refused_request (person, node, what, from_where, status, first_at, last_at, times)
                 select 'pia.lund', null, 'GET /api/people', '192.0.2.' || n, 403, now(), '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * (n / 3), 1
                 from generate_series(0, 4) n;
             insert into change_freeze (who, because, set_at, until_at, is_for_all, clauses)
                 select 'tor.havik', 'boarding', '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * n, now() + interval '1 hour', true, '{{}}'
                 from generate_series(1, 12) n;
             insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at, closed_at, closed_as)
                 select '{kiosk}', 'file:/etc/' || n, 'medium', '', '2026-11-20T08:00:00Z', '2026-11-20T08:00:00Z'::timestamptz + interval '1 hour' * (n / 3), gen_random_uuid(), now(),
                     case when n <> 1 then '2026-11-23T08:00:00Z'::timestamptz end, case when n <> 1 then 'corrected' end
                 from generate_series(0, 6) n"
        ))
        .await;

    let releases = read_in_pages!(range => release::all(db, &range).await.unwrap(), release::ReleaseRow::cursor,
        |row| format!("{}@{}", row.kit, row.version));
    assert_eq!(releases.len(), 8);
    assert_eq!(releases[0], "gate-reader@1.6.0", "the newest first");
    let of_kit = read_in_pages!(range => release::of_kit(db, &range, "gate-reader").await.unwrap(),
        release::ReleaseRow::cursor_of_kit, |row| row.version.clone());
    assert_eq!(of_kit, ["1.6.0", "1.5.0", "1.4.0", "1.3.0", "1.2.0", "1.1.0", "1.0.0"]);
    let invitations = read_in_pages!(range => invitation::open(db, &range).await.unwrap(),
        invitation::InvitationRow::cursor, |row| row.id);
    assert_eq!(invitations.len(), 5);
    let mut transaction = db.begin().await.unwrap();
    let requests = read_in_pages!(range => joining::waiting(&mut *transaction, &range).await.unwrap(),
        joining::RequestRow::cursor, |row| row.name.clone());
    assert_eq!(requests.len(), 5);
    assert_eq!(requests[4], "gate-4", "the oldest first");
    assert_eq!(joining::count_waiting(db).await.unwrap(), 5);
    let tokens = read_in_pages!(range => token::list(db, &range, Some("pia.lund")).await.unwrap(),
        token::TokenRow::cursor, |row| row.name.clone());
    assert_eq!(tokens.len(), 5);
    let refused = read_in_pages!(range => refused_request::latest(db, &range).await.unwrap(),
        refused_request::RefusedRow::cursor, |row| row.from_where.clone());
    assert_eq!(refused.len(), 5);
    assert_eq!(refused[..2], ["192.0.2.4", "192.0.2.3"], "those that were last met first");
    let people = read_in_pages!(range => person::list(db, &range).await.unwrap(),
        person::ListedRow::cursor, |row| row.name.clone());
    assert_eq!(people, ["pia.lund", "tor.havik", "ilse.maren"], "those first who were added first");
    let freezes = read_in_pages!(range => freeze::list(db, &range, true).await.unwrap(),
        freeze::ListedRow::cursor, |row| row.no);
    assert_eq!(freezes, [12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1]);
    let episodes = read_in_pages!(range => episode::of_node(db, &range, kiosk).await.unwrap(),
        episode::EpisodeRow::cursor, |row| row.address.clone());
    assert_eq!(episodes.len(), 7);
    assert_eq!(episodes[..2], ["file:/etc/1", "file:/etc/6"], "the open one first, then the newest");
}

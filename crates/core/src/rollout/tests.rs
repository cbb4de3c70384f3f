use super::*;
use crate::change::{DocumentEdit, DocumentKey, edited};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

fn plan() -> RolloutPlan {
    RolloutPlan { waves: vec![5, 25, 100], settle_secs: 1_800, bad_above_percent: 2, within: None }
}

#[test]
fn a_plan_is_read_as_people_write_it_and_what_is_wrong_is_named() {
    assert_eq!(read_waves("5%,25%, 100 %"), Ok(vec![5, 25, 100]));
    assert_eq!(read_halt("bad > 2%"), Ok(2));
    assert_eq!(read_halt(" bad>0% "), Ok(0));
    for wrong in ["", "5,100%", "5%,,100%", "-5%", "+5%", "5 nodes"] {
        assert_eq!(read_waves(wrong), Err(PlanError::Waves), "{wrong}");
    }
    for wrong in ["bad", "bad > 2", "2%", "failed > 2%", "bad >= 2%"] {
        assert_eq!(read_halt(wrong), Err(PlanError::Halt), "{wrong}");
    }
    assert_eq!(plan().check(), Ok(()));
    for waves in [
        vec![],
        vec![50],
        vec![0, 100],
        vec![25, 5, 100],
        vec![5, 5, 100],
        vec![5, 100, 101],
        (80..=100).collect(),
    ] {
        assert_eq!(RolloutPlan { waves, ..plan() }.check(), Err(PlanError::Waves));
    }
    assert_eq!(RolloutPlan { settle_secs: 604_801, ..plan() }.check(), Err(PlanError::Settle));
    assert_eq!(RolloutPlan { bad_above_percent: 100, ..plan() }.check(), Err(PlanError::Halt));
    let of_site = RolloutPlan { within: Some("site".into()), ..plan() };
    assert_eq!(
        of_site.words(),
        "waves of 5 %, 25 %, 100 %; each settles for 30 min; halts when bad > 2 %; percentages within each site"
    );
    let within = RolloutPlan { within: Some("no key".into()), ..plan() };
    let wrong = within.check().unwrap_err();
    assert!(wrong.to_string().starts_with("\"no key\" is no key of a label"), "{wrong}");
    assert_eq!(wrong.field(), "within");
    assert_eq!(
        serde_json::from_value::<RolloutPlan>(json!({ "waves": [100] })).unwrap(),
        RolloutPlan { waves: vec![100], ..plan() }
    );
}

fn members(count: usize, sites: &[&str]) -> Vec<Member> {
    (0..count)
        .map(|at| Member {
            id: format!("01977e2c-0000-7000-8000-{at:012}"),
            within: sites[at % sites.len()].to_owned(),
        })
        .collect()
}

#[test]
fn waves_have_as_many_nodes_as_their_percentages_say_and_each_site_has_one_in_the_first() {
    let waves = waves_of(118, &[5, 25, 100], &members(200, &[""]));
    assert_eq!(counts_by_wave(&waves, 3), [10, 40, 150]);
    let of_three = waves_of(118, &[5, 25, 100], &members(3, &[""]));
    assert_eq!(counts_by_wave(&of_three, 3), [1, 0, 2], "a wave may have no node");
    let all = members(60, &["auken", "brisk", "corran"]);
    let waves = waves_of(118, &[5, 100], &all);
    for site in ["auken", "brisk", "corran"] {
        let first =
            all.iter().zip(&waves).filter(|(member, wave)| member.within == site && **wave == 1).count();
        assert_eq!(first, 1, "5 % of 20 nodes at {site}");
    }
    assert_ne!(waves, waves_of(119, &[5, 100], &all), "the next rollout begins with other nodes");
    let mut turned = all.clone();
    turned.reverse();
    let mut again = waves_of(118, &[5, 100], &turned);
    again.reverse();
    assert_eq!(again, waves, "the order in which nodes are named does not matter");
}

#[test]
fn a_wave_is_judged_by_the_nodes_that_received_it() {
    let of = |nodes, received, finished, failed, not_heard| WaveFigures {
        nodes,
        received,
        finished,
        failed,
        not_heard,
        ..WaveFigures::default()
    };
    let judged = |figures: WaveFigures| figures.judged(&plan());
    assert_eq!(judged(of(100, 0, 0, 0, 0)), Judged::Unfinished);
    assert_eq!(judged(of(100, 95, 89, 0, 0)), Judged::Unfinished, "89 of 100");
    assert_eq!(judged(of(100, 95, 90, 0, 0)), Judged::Finished);
    assert_eq!(judged(of(100, 90, 90, 2, 0)), Judged::Finished, "2.2 %, but only two");
    assert_eq!(judged(of(100, 90, 90, 2, 1)), Judged::TooBad, "3.3 %");
    assert_eq!(judged(of(200, 150, 10, 3, 0)), Judged::Unfinished, "2 % are not above 2 %");
    assert_eq!(judged(of(200, 149, 10, 3, 0)), Judged::TooBad);
    assert_eq!(judged(of(2, 2, 1, 1, 0)), Judged::Unfinished, "one of two");
    assert_eq!(judged(of(2, 2, 2, 1, 1)), Judged::TooBad, "all of a small wave");
    assert_eq!(judged(of(1, 1, 0, 0, 1)), Judged::TooBad);
    assert_eq!(judged(of(0, 0, 0, 0, 0)), Judged::Finished, "there is nothing to wait for");
    let with_silent = WaveFigures { silent: 90, ..of(100, 10, 9, 0, 0) };
    assert_eq!(judged(with_silent), Judged::Finished, "9 of the 10 that are heard");
    let small = WaveFigures { silent: 1, ..of(2, 1, 1, 1, 0) };
    assert_eq!(judged(small), Judged::TooBad, "the only one that is heard");
    assert_eq!(judged(WaveFigures { silent: 100, ..of(100, 0, 0, 0, 0) }), Judged::Unfinished);
    let unusable = WaveFigures { unusable: 3, ..of(100, 50, 0, 0, 0) };
    assert_eq!(judged(unusable), Judged::TooBad);
    assert_eq!(
        of(12, 12, 12, 2, 1).bad_words(),
        "3 of 12 nodes that received it are bad: 2 failed, 1 not heard since"
    );
    assert_eq!(of(1, 1, 1, 1, 0).bad_words(), "1 of 1 node that received it is bad: 1 failed");
}

#[test]
fn a_document_that_a_rollout_has_under_way_is_edited_by_nothing_else() {
    let edit = |name: &str| DocumentEdit {
        key: DocumentKey::Group(name.into()),
        before: None,
        after: Some(json!({})),
    };
    let overlays = [
        Overlay { rollout: 118, edits: vec![edit("kiosks")] },
        Overlay { rollout: 120, edits: vec![edit("gates")] },
    ];
    let edits = [edit("everyone"), edit("gates")];
    assert_eq!(overlapping(&edits, &overlays), Some((&edits[1], 120)));
    assert_eq!(overlapping(&edits[..1], &overlays), None);
}

fn key(no: u8) -> DocumentKey {
    DocumentKey::Group(format!("g{no}"))
}

type Documents = BTreeMap<DocumentKey, Value>;

/// A fleet of nodes, each with its wave in either of two rollouts, or in none.
#[derive(Debug, Clone)]
struct Fleet {
    documents: Documents,
    overlays: Vec<Overlay>,
    nodes: Vec<[Option<i32>; 2]>,
}

fn fleets() -> impl Strategy<Value = Fleet> {
    let values = prop::collection::vec(prop::option::of(0..9_u8), 6);
    (values.clone(), values, prop::collection::vec(prop::array::uniform2(prop::option::of(1..4_i32)), 1..12))
        .prop_map(|(before, after, nodes)| {
            let said = |value: Option<u8>| value.map(|value| json!(value));
            let documents: Documents =
                (0..6).filter_map(|no| Some((key(no), said(before[usize::from(no)])?))).collect();
            let edits = |of: [u8; 3]| {
                let edit = |no: u8| DocumentEdit {
                    key: key(no),
                    before: said(before[usize::from(no)]),
                    after: said(after[usize::from(no)]),
                };
                of.into_iter().map(edit).collect()
            };
            let overlays = vec![
                Overlay { rollout: 118, edits: edits([0, 1, 2]) },
                Overlay { rollout: 120, edits: edits([3, 4, 5]) },
            ];
            Fleet { documents, overlays, nodes }
        })
}

/// A rollout as it stands: the last wave that was handed out, whether it is over, and whether it was turned back.
#[derive(Debug, Clone, Copy, Default)]
struct Stands {
    reached: i32,
    is_over: bool,
}

impl Fleet {
    fn memberships(&self, node: usize, stands: [Stands; 2]) -> Vec<Membership> {
        let of = |(at, wave): (usize, &Option<i32>)| {
            let Stands { reached, is_over } = stands[at];
            wave.filter(|_| !is_over).map(|wave| Membership {
                rollout: self.overlays[at].rollout,
                wave,
                reached,
            })
        };
        self.nodes[node].iter().enumerate().filter_map(of).collect()
    }

    fn resolved_by(
        &self,
        documents: &Documents,
        node: usize,
        stands: [Stands; 2],
        step: Option<Step>,
    ) -> Documents {
        let reached_by = overlays_of(&self.memberships(node, stands), step);
        documents_of(documents, &self.overlays, &reached_by)
    }
}

proptest! {
    #[test]
    fn all_waves_come_to_the_documents_and_turned_back_is_as_before(fleet in fleets(), reached in prop::array::uniform2(0..4_i32)) {
        let stands = reached.map(|reached| Stands { reached, is_over: false });
        for node in 0..fleet.nodes.len() {
            let as_it_is = fleet.resolved_by(&fleet.documents, node, stands, None);
            let [first, second] = [0, 1].map(|at| fleet.nodes[node][at].is_some_and(|wave| wave <= reached[at]));
            let mut expected = fleet.documents.clone();
            for (reaches, overlay) in [first, second].into_iter().zip(&fleet.overlays) {
                if reaches { expected = edited(expected, &overlay.edits); }
            }
            prop_assert_eq!(&as_it_is, &expected);

            // The last wave: the documents are edited, and the rollout is over.
            let after = edited(fleet.documents.clone(), &fleet.overlays[0].edits);
            let last = fleet.resolved_by(&after, node, stands, Some(Step::Over { rollout: 118 }));
            let is_over = [Stands { is_over: true, ..stands[0] }, stands[1]];
            prop_assert_eq!(&last, &fleet.resolved_by(&after, node, is_over, None), "what is prepared is what holds then");
            let at_once = [Stands::default(), stands[1]];
            prop_assert_eq!(&last, &fleet.resolved_by(&after, node, at_once, None), "as if it had been changed at once");
            if first { prop_assert_eq!(&last, &as_it_is, "who had it keeps it"); }

            // Turned back: the documents stay, and the rollout is over.
            let turned = fleet.resolved_by(&fleet.documents, node, stands, Some(Step::Over { rollout: 118 }));
            prop_assert_eq!(&turned, &fleet.resolved_by(&fleet.documents, node, at_once, None), "as if it had never begun");
            if !first { prop_assert_eq!(&turned, &as_it_is); }

            // A further wave: prepared is what holds then, and no node loses it.
            let wave = reached[0] + 1;
            let next = fleet.resolved_by(&fleet.documents, node, stands, Some(Step::Wave { rollout: 118, wave }));
            let then = [Stands { reached: wave, is_over: false }, stands[1]];
            prop_assert_eq!(&next, &fleet.resolved_by(&fleet.documents, node, then, None));
            if first { prop_assert_eq!(&next, &as_it_is); }
        }
    }

    #[test]
    fn of_any_fleet_a_share_of_each_site_is_reached_that_is_rounded_up(count in 1..300_usize, first in 1..99_u32, rollout in 1..999_i64) {
        let all = members(count, &["auken", "brisk", "corran", "dunmoy"]);
        let waves = waves_of(rollout, &[first, 100], &all);
        let sites: BTreeSet<&str> = all.iter().map(|member| member.within.as_str()).collect();
        for site in sites {
            let of = |wave: usize| all.iter().zip(&waves).filter(|(member, its)| member.within == site && **its == wave).count();
            let share = (of(1) + of(2)) as f64 * f64::from(first) / 100.0;
            prop_assert!(of(1) as f64 >= share && (of(1) as f64) < share + 1.0);
        }
    }
}

use super::*;
use crate::filter::NodeView;
use crate::group::{EVERYONE, Group, NodeOwn, plan};
use crate::hours::Day;
use crate::kit::OnDrift;
use proptest::prelude::*;

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn zone(name: &str) -> TimeZone {
    // A rule as POSIX writes it, so that no time zone database is needed: the clocks change on 29 March and 25 October 2026.
    match name {
        "UTC" => TimeZone::UTC,
        "CET" => TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap(),
        other => panic!("{other}"),
    }
}

fn hour(text: &str) -> HourOfDay {
    HourOfDay::try_from(text.to_owned()).unwrap()
}

fn hours(days: &[Day], from: &str, until: &str) -> WeeklyHours {
    WeeklyHours { days: days.iter().copied().collect(), from: hour(from), until: hour(until) }
}

fn window(hours: &[WeeklyHours], zone: &TimeZone, now: &str) -> (String, String) {
    let window = window_at(hours, zone, at(now)).unwrap();
    (window.opens.to_string(), window.closes.to_string())
}

fn pair(opens: &str, closes: &str) -> (String, String) {
    (opens.to_owned(), closes.to_owned())
}

#[test]
fn an_hour_is_written_with_four_digits() {
    assert_eq!(hour("06:30").to_string(), "06:30");
    for wrong in ["6:30", "24:00", "06:60", "0630", "06:3", "+6:30", "aa:bb", ""] {
        assert_eq!(
            HourOfDay::try_from(wrong.to_owned()).unwrap_err().to_string(),
            format!("`{wrong}` is no hour of the day: write it as \"06:30\"")
        );
    }
}

#[test]
fn a_window_over_midnight_belongs_to_the_day_on_which_it_opens() {
    // 2026-11-23 is a Monday.
    let night = [hours(&[Day::Mon], "22:00", "04:00")];
    let monday = pair("2026-11-23T22:00:00Z", "2026-11-24T04:00:00Z");
    assert_eq!(window(&night, &zone("UTC"), "2026-11-23T21:59:59Z"), monday);
    assert_eq!(window(&night, &zone("UTC"), "2026-11-24T03:59:59Z"), monday);
    assert_eq!(
        window(&night, &zone("UTC"), "2026-11-24T04:00:00Z"),
        pair("2026-11-30T22:00:00Z", "2026-12-01T04:00:00Z")
    );
}

#[test]
fn hours_that_touch_are_one_window_and_a_window_follows_the_zone() {
    let weekend = [hours(&[Day::Sat], "20:00", "00:00"), hours(&[Day::Sun], "00:00", "06:00")];
    assert_eq!(
        window(&weekend, &zone("CET"), "2026-11-28T12:00:00Z"),
        pair("2026-11-28T19:00:00Z", "2026-11-29T05:00:00Z")
    );
    // In summer the same hours are an hour earlier.
    assert_eq!(
        window(&weekend, &zone("CET"), "2026-07-04T12:00:00Z"),
        pair("2026-07-04T18:00:00Z", "2026-07-05T04:00:00Z")
    );
    assert_eq!(window_at(&[], &zone("UTC"), at("2026-11-23T00:00:00Z")), None);
}

#[test]
fn an_hour_that_the_clocks_leave_out_comes_as_long_after_midnight() {
    let early = BTreeSet::from([hour("02:30")]);
    assert_eq!(
        next_of_day(&early, &zone("CET"), at("2026-03-29T00:00:00Z")).to_string(),
        "2026-03-29T01:30:00Z"
    );
    // One that comes twice is taken once, the first.
    assert_eq!(
        next_of_day(&early, &zone("CET"), at("2026-10-25T00:00:00Z")).to_string(),
        "2026-10-25T00:30:00Z"
    );
    assert_eq!(
        next_of_day(&early, &zone("CET"), at("2026-10-25T00:30:00Z")).to_string(),
        "2026-10-26T01:30:00Z"
    );
}

#[test]
fn runs_keep_to_the_check_ins_unless_they_have_a_rhythm_of_their_own() {
    let usual = AgentSettings::default();
    assert_eq!(usual.runs(), Rhythm::Every(900));
    let apart = AgentSettings { run_interval_secs: Some(3_600), ..AgentSettings::default() };
    assert_eq!((apart.check_ins(), apart.runs()), (Rhythm::Every(900), Rhythm::Every(3_600)));
    let fixed = AgentSettings { run_at: BTreeSet::from([hour("06:00")]), ..apart };
    assert_eq!(fixed.runs(), Rhythm::At(&BTreeSet::from([hour("06:00")])));
}

proptest! {
    #[test]
    fn nothing_comes_later_than_its_interval_nor_earlier_than_its_hour(chance: u64, secs in 5_u64..700_000, spread in prop::option::of(0_u64..10_000)) {
        let now = at("2026-11-23T12:00:00Z");
        let settings = AgentSettings { spread_secs: spread, ..AgentSettings::default() };
        let next = settings.next(Rhythm::Every(secs), &TimeZone::UTC, now, chance);
        prop_assert!(next <= now + seconds(secs) && next >= now + seconds(secs - secs / 2));
        let next = settings.next(Rhythm::At(&BTreeSet::from([hour("06:00")])), &TimeZone::UTC, now, chance);
        let six = at("2026-11-24T06:00:00Z");
        prop_assert!(six <= next && next <= six + seconds(spread.unwrap_or(300)));
    }

    #[test]
    fn a_window_is_open_exactly_within_its_hours(minute in 0_i64..60 * 24 * 7, from in 0_u8..24, until in 0_u8..24) {
        let now = at("2026-11-23T00:00:00Z") + SignedDuration::from_mins(minute);
        let (from, until) = (hour(&format!("{from:02}:00")), hour(&format!("{until:02}:00")));
        let of_day = hour(&now.to_zoned(TimeZone::UTC).strftime("%H:%M").to_string());
        let is_within = if until > from { from <= of_day && of_day < until } else { of_day >= from || of_day < until };
        let found = window_at(&[WeeklyHours { days: BTreeSet::new(), from, until }], &TimeZone::UTC, now).unwrap();
        prop_assert_eq!(found.opens <= now && now < found.closes, is_within);
    }
}

fn group(name: &str, priority: i32, settings: GroupSettings) -> Group {
    Group {
        name: name.into(),
        priority,
        nodes: BTreeSet::from(["gate-auken-1".into()]),
        settings,
        ..Group::default()
    }
}

fn settled(groups: &[Group]) -> AgentSettings {
    let view = NodeView { name: "gate-auken-1".into(), ..NodeView::default() };
    plan(&view, &NodeOwn::default(), groups, &["open-water".into()]).unwrap().settings
}

#[test]
fn every_setting_says_which_group_it_comes_from() {
    let everyone = GroupSettings {
        grace_secs: Some(3_600),
        on_drift: Some(OnDrift::Report),
        check_in_at: Some(BTreeSet::from([hour("06:00")])),
        ..GroupSettings::default()
    };
    let gates = GroupSettings {
        on_drift: Some(OnDrift::Correct),
        interval_secs: Some(60),
        ..GroupSettings::default()
    };
    let settings = settled(&[
        Group { name: EVERYONE.into(), settings: everyone, ..Group::default() },
        group("gates", 5, gates),
    ]);
    let described = settings.described();
    let of = |word: &str| {
        described
            .iter()
            .find(|described| described.word == word)
            .map(|described| (described.value.as_str(), described.from.as_str()))
            .unwrap()
    };
    assert_eq!(of("grace"), ("1 h", "the group everyone"));
    assert_eq!(of("on_drift"), ("correct", "the group gates"));
    // An interval of a higher group replaces the hours of a lower one.
    assert_eq!(of("check-ins"), ("every 1 min", "the group gates"));
    assert_eq!(of("mode"), ("observe", "default"));
}

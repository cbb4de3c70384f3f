//! Whether the server can have this node check in at once: a request that it holds, and what becomes of it.

use constans_link::LinkError;
use constans_wire::check_in::Problem;
use constans_wire::wake::{NO_PLACE, WAIT_PATH, WaitAnswer};
use std::time::{Duration, Instant};

/// After a break, nodes come back spread over this time.
const BACK_WITHIN: Duration = Duration::from_secs(120);
/// However often it breaks, the time is doubled no more often.
const MOST_DOUBLINGS: u32 = 3;
/// A request that is held for a shorter time, without a wake, was not held.
const SHORTEST_HOLD: Duration = Duration::from_secs(10);

/// How a held request ended.
#[derive(Debug)]
pub struct HeldEnd {
    no: u64,
    held_for: Duration,
    answer: Result<WaitAnswer, LinkError>,
}

impl HeldEnd {
    /// Returns how a request that was sent at a moment has ended.
    pub fn of(request: &Request, began: Instant, answer: Result<WaitAnswer, LinkError>) -> Self {
        Self { no: request.no, held_for: began.elapsed(), answer }
    }
}

/// What follows from the end of a held request.
#[derive(Debug, PartialEq, Eq)]
pub enum Next {
    /// The server wants the node to check in now.
    CheckIn,
    /// The next request is sent after this time.
    Again(Duration),
    /// None is sent before the next check-in: why.
    NotNow(String),
}

/// Where a request is held, and for what.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Wanted {
    /// The server that answered the last check-in.
    server: String,
    /// The newest wake that this node attended to.
    after: i64,
}

/// A request that is to be sent.
#[derive(Debug, PartialEq, Eq)]
pub struct Request {
    no: u64,
    /// Where.
    pub url: String,
    /// After which time.
    pub wait: Duration,
}

/// Whether the server can have this node check in at once.
#[derive(Debug, Default)]
pub struct Reachable {
    wanted: Option<Wanted>,
    /// How many requests were sent.
    sent: u64,
    /// The newest wake that the last of them named as known.
    named: i64,
    is_under_way: bool,
    wait: Duration,
    breaks: u32,
    /// Why it is not, for people.
    why_not: Option<String>,
}

impl Reachable {
    /// A check-in was answered by a server, with the newest wake of this node if it holds requests.
    pub fn checked_in(&mut self, server: &str, wake: Option<i64>, is_set: bool) {
        self.wanted = wake.filter(|_| is_set).map(|after| Wanted { server: server.to_owned(), after });
        self.why_not = match (&self.wanted, is_set) {
            (_, false) => Some("wakeable is off".to_owned()),
            (None, true) => Some("the server holds no requests".to_owned()),
            (Some(_), true) => self.why_not.take().filter(|_| self.breaks > 0),
        };
    }

    /// Returns whether a request should be held.
    pub fn is_wanted(&self) -> bool {
        self.wanted.is_some()
    }

    /// Returns why the server cannot have this node check in at once, if it cannot.
    pub fn why_not(&self) -> Option<&str> {
        self.why_not.as_deref()
    }

    /// Returns the request to send next; none while one is under way, or should not be.
    pub fn begin(&mut self) -> Option<Request> {
        let wanted = self.wanted.as_ref().filter(|_| !self.is_under_way)?;
        let url = format!("{}{WAIT_PATH}?after={}", wanted.server, wanted.after);
        self.is_under_way = true;
        (self.sent, self.named) = (self.sent + 1, wanted.after);
        Some(Request { no: self.sent, url, wait: std::mem::take(&mut self.wait) })
    }

    /// The request that is under way is let be; its end means nothing any more.
    pub fn left(&mut self) {
        self.is_under_way = false;
    }

    /// A held request ended. Returns what follows; none if it was let be before. `chance` is any number: it spreads those who
    /// come back.
    pub fn ended(&mut self, end: HeldEnd, chance: u64) -> Option<Next> {
        if !self.is_under_way || end.no != self.sent {
            return None;
        }
        self.is_under_way = false;
        let next = self.judged(end, chance);
        match &next {
            Next::CheckIn => (self.breaks, self.why_not) = (0, None),
            Next::Again(wait) => self.wait = *wait,
            Next::NotNow(why) => (self.wanted, self.why_not) = (None, Some(why.clone())),
        }
        Some(next)
    }

    fn judged(&mut self, HeldEnd { held_for, answer, .. }: HeldEnd, chance: u64) -> Next {
        let after = self.wanted.as_ref().map_or(0, |wanted| wanted.after);
        match answer {
            Ok(WaitAnswer { wake: Some(wake) }) if wake != after => {
                if let Some(wanted) = &mut self.wanted {
                    wanted.after = wake;
                }
                Next::CheckIn
            }
            // A check-in attended to the wake while the server told of it.
            Ok(WaitAnswer { wake: Some(wake) }) if wake != self.named => Next::Again(Duration::ZERO),
            Ok(_) if held_for >= SHORTEST_HOLD => {
                (self.breaks, self.why_not) = (0, None);
                Next::Again(Duration::ZERO)
            }
            Ok(_) => self.broke("the server does not hold the request".to_owned(), chance),
            Err(LinkError::Refused(Problem { kind, title, .. })) if kind == NO_PLACE => Next::NotNow(title),
            // What it refuses is found out by checking in; a server that does not know the request refuses it too.
            Err(LinkError::Refused(Problem { status: 401 | 403, .. })) => Next::CheckIn,
            Err(LinkError::Refused(Problem { status: 404, .. })) => {
                Next::NotNow("the server holds no requests".to_owned())
            }
            Err(error) => self.broke(error.to_string(), chance),
        }
    }

    fn broke(&mut self, why: String, chance: u64) -> Next {
        let widest = BACK_WITHIN * 2_u32.pow(self.breaks.min(MOST_DOUBLINGS));
        self.breaks += 1;
        let wait =
            Duration::from_millis(chance % (u64::try_from(widest.as_millis()).unwrap_or(u64::MAX) + 1));
        self.why_not = Some(why);
        Next::Again(wait)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SERVER: &str = "https://hub.skerry.example:7443";
    const LONG: Duration = Duration::from_secs(240);

    fn reachable() -> Reachable {
        let mut reachable = Reachable::default();
        reachable.checked_in(SERVER, Some(7), true);
        let request = Request { no: 1, url: format!("{SERVER}/wait?after=7"), wait: Duration::ZERO };
        assert_eq!(reachable.begin(), Some(request));
        assert_eq!(reachable.begin(), None, "one is under way");
        reachable
    }

    fn ended(
        reachable: &mut Reachable,
        held_for: Duration,
        answer: Result<Option<i64>, LinkError>,
        chance: u64,
    ) -> Next {
        let end = HeldEnd { no: reachable.sent, held_for, answer: answer.map(|wake| WaitAnswer { wake }) };
        reachable.ended(end, chance).unwrap()
    }

    fn refused(status: u16, kind: &str) -> Result<Option<i64>, LinkError> {
        let (kind, title) = (kind.to_owned(), "no".to_owned());
        let problem =
            Problem { kind, title, status, hint: None, detail: None, change: None, findings: Vec::new() };
        Err(LinkError::Refused(problem))
    }

    fn away() -> Result<Option<i64>, LinkError> {
        Err(LinkError::NotReached { url: SERVER.to_owned(), because: "refused".to_owned() })
    }

    #[test]
    fn a_wake_is_attended_to_once_and_the_next_request_names_it() {
        let mut reachable = reachable();
        assert_eq!(ended(&mut reachable, Duration::from_millis(3), Ok(Some(8)), 0), Next::CheckIn);
        assert_eq!(reachable.begin().unwrap().url, format!("{SERVER}/wait?after=8"));
        // The check-in between says the same; the server answers again with what is known already.
        reachable.checked_in(SERVER, Some(8), true);
        assert!(matches!(ended(&mut reachable, Duration::from_millis(3), Ok(Some(8)), 9), Next::Again(_)));
    }

    #[test]
    fn a_wake_that_a_check_in_attended_to_while_the_server_told_of_it_is_no_break() {
        let mut reachable = reachable();
        reachable.checked_in(SERVER, Some(8), true);
        let told = ended(&mut reachable, Duration::from_millis(3), Ok(Some(8)), 70_000);
        assert_eq!(told, Next::Again(Duration::ZERO));
        assert_eq!(reachable.begin().unwrap().url, format!("{SERVER}/wait?after=8"));
        let again = ended(&mut reachable, Duration::from_millis(3), Ok(Some(8)), 70_000);
        assert_eq!(again, Next::Again(Duration::from_secs(70)), "it does not hold");
    }

    #[test]
    fn a_database_that_was_put_back_numbers_its_wakes_anew_and_none_is_missed() {
        assert_eq!(ended(&mut reachable(), LONG, Ok(Some(2)), 0), Next::CheckIn);
    }

    #[test]
    fn nodes_come_back_spread_over_two_minutes_and_later_if_it_breaks_again() {
        for (breaks, widest) in [120, 240, 480, 960, 960].into_iter().enumerate() {
            let waits = |chance| {
                let mut reachable = reachable();
                for _ in 0..breaks {
                    ended(&mut reachable, LONG, away(), 0);
                    reachable.begin();
                }
                match ended(&mut reachable, LONG, away(), chance) {
                    Next::Again(wait) => wait,
                    other => panic!("{other:?}"),
                }
            };
            let spread: Vec<Duration> =
                (0..4_000).map(|node: u64| waits(node.wrapping_mul(0x9e37_79b9_7f4a_7c15))).collect();
            let in_half = spread.iter().filter(|wait| **wait < Duration::from_secs(widest) / 2).count();
            assert!(
                (1_800..2_200).contains(&in_half),
                "after {breaks} breaks {in_half} of 4000 in the first half"
            );
            assert!(spread.iter().all(|wait| *wait <= Duration::from_secs(widest)));
        }
    }

    #[test]
    fn the_end_of_its_time_is_no_break_but_a_server_that_does_not_hold_is_not_asked_without_end() {
        let mut reachable = reachable();
        assert_eq!(ended(&mut reachable, LONG, Ok(None), 5), Next::Again(Duration::ZERO));
        reachable.begin();
        assert_eq!(
            ended(&mut reachable, Duration::from_millis(1), Ok(None), 70_000),
            Next::Again(Duration::from_secs(70))
        );
        assert_eq!(reachable.why_not(), Some("the server does not hold the request"));
        assert_eq!(reachable.begin().unwrap().wait, Duration::from_secs(70));
        assert_eq!(ended(&mut reachable, LONG, Ok(None), 5), Next::Again(Duration::ZERO));
        assert_eq!(reachable.why_not(), None);
    }

    #[test]
    fn without_a_place_it_waits_for_the_next_check_in_and_a_refusal_is_looked_into_by_checking_in() {
        let mut reachable = reachable();
        assert_eq!(ended(&mut reachable, LONG, refused(503, NO_PLACE), 0), Next::NotNow("no".to_owned()));
        assert_eq!(reachable.begin(), None);
        reachable.checked_in(SERVER, Some(7), true);
        assert!(reachable.begin().is_some());
        assert_eq!(ended(&mut reachable, LONG, refused(403, "revoked"), 0), Next::CheckIn);
        reachable.begin();
        assert!(matches!(ended(&mut reachable, LONG, refused(404, "not_found"), 0), Next::NotNow(_)));
        assert!(matches!(ended(&mut self::reachable(), LONG, refused(503, "stopping"), 0), Next::Again(_)));
    }

    #[test]
    fn the_end_of_a_request_that_was_let_be_means_nothing() {
        let mut reachable = reachable();
        reachable.left();
        assert_eq!(reachable.begin().unwrap().no, 2);
        let late = HeldEnd { no: 1, held_for: LONG, answer: Ok(WaitAnswer { wake: Some(9) }) };
        assert_eq!(reachable.ended(late, 0), None);
        assert_eq!(reachable.begin(), None, "the second one is under way");
        assert_eq!(ended(&mut reachable, LONG, Ok(Some(9)), 0), Next::CheckIn);
    }

    #[test]
    fn it_is_not_where_the_setting_or_the_server_says_so() {
        let mut reachable = Reachable::default();
        reachable.checked_in(SERVER, Some(7), false);
        assert_eq!((reachable.begin(), reachable.why_not()), (None, Some("wakeable is off")));
        reachable.checked_in(SERVER, None, true);
        assert_eq!((reachable.begin(), reachable.why_not()), (None, Some("the server holds no requests")));
    }
}

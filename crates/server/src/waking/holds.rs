//! Which nodes wait to be woken, and whose turn it is: so many at once, then one for each that has come.

use std::collections::{HashMap, VecDeque};
use std::time::{Duration, Instant};
use tokio::sync::oneshot;
use uuid::Uuid;

/// This many nodes are woken at once, if there is room for that many requests; then as many as check in.
const AT_ONCE: usize = 1_000;
/// A node that was woken and does not check in for this long keeps nobody else from it.
const EXPECTED_FOR: Duration = Duration::from_secs(5);

struct Hold {
    no: u64,
    woken: oneshot::Sender<i64>,
}

/// The requests that are held.
pub(super) struct Holds {
    most: usize,
    at_once: usize,
    entered: u64,
    waiting: HashMap<Uuid, Hold>,
    /// Whom a wake is for, the earliest first.
    due: VecDeque<(Uuid, i64)>,
    /// Who was woken and has not come yet.
    expected: HashMap<Uuid, Instant>,
}

impl Holds {
    /// There may be `most` of them, and `requests` that are under way.
    pub fn new(most: usize, requests: usize) -> Self {
        let (waiting, expected) = (HashMap::new(), HashMap::new());
        let at_once = AT_ONCE.min(requests / 4 * 3);
        Self { most, at_once, entered: 0, waiting, due: VecDeque::new(), expected }
    }

    /// Enters a request, in place of an earlier one of the same node. Returns its number; none if there is no place.
    pub fn enter(&mut self, node: Uuid, woken: oneshot::Sender<i64>) -> Option<u64> {
        if self.waiting.len() >= self.most && !self.waiting.contains_key(&node) {
            return None;
        }
        self.entered += 1;
        self.waiting.insert(node, Hold { no: self.entered, woken });
        Some(self.entered)
    }

    /// Takes a request out. Returns whether it was there.
    pub fn leave(&mut self, node: Uuid, no: u64) -> bool {
        let is_it = self.waiting.get(&node).is_some_and(|hold| hold.no == no);
        if is_it {
            self.waiting.remove(&node);
        }
        is_it
    }

    pub fn count(&self) -> usize {
        self.waiting.len()
    }

    pub fn waiting(&self) -> Vec<Uuid> {
        self.waiting.keys().copied().collect()
    }

    /// Wakes are for these nodes. They are woken as their turn comes.
    pub fn wake(&mut self, nodes: Vec<(Uuid, i64)>, now: Instant) {
        self.due.extend(nodes);
        self.go_on(now);
    }

    /// A node checked in.
    pub fn checked_in(&mut self, node: Uuid, now: Instant) {
        if self.expected.remove(&node).is_some() {
            self.go_on(now);
        }
    }

    /// Wakes those whose turn it is.
    pub fn go_on(&mut self, now: Instant) {
        self.expected.retain(|_, since| now.duration_since(*since) < EXPECTED_FOR);
        while self.expected.len() < self.at_once
            && let Some((node, wake)) = self.due.pop_front()
        {
            // Who is not here any more reads the wake when it comes back.
            if let Some(hold) = self.waiting.remove(&node)
                && hold.woken.send(wake).is_ok()
            {
                self.expected.insert(node, now);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(number: usize) -> Uuid {
        Uuid::from_u128(number as u128)
    }

    fn holding(nodes: usize) -> (Holds, Vec<oneshot::Receiver<i64>>) {
        let mut holds = Holds::new(nodes, 2_000);
        let enter = |number| {
            let (woken, is_woken) = oneshot::channel();
            holds.enter(node(number), woken).unwrap();
            is_woken
        };
        let receivers = (0..nodes).map(enter).collect();
        (holds, receivers)
    }

    fn count_woken(receivers: &mut [oneshot::Receiver<i64>]) -> usize {
        receivers.iter_mut().filter_map(|woken| woken.try_recv().ok()).count()
    }

    #[test]
    fn a_thousand_are_woken_at_once_and_then_as_many_as_come() {
        let (mut holds, mut receivers) = holding(2_500);
        let now = Instant::now();
        holds.wake((0..2_500).map(|number| (node(number), 4)).collect(), now);
        assert_eq!(count_woken(&mut receivers), 1_000);
        (0..300).for_each(|number| holds.checked_in(node(number), now));
        assert_eq!(count_woken(&mut receivers), 300);
        holds.checked_in(node(0), now);
        holds.checked_in(node(2_400), now);
        assert_eq!(count_woken(&mut receivers), 0, "one came twice, and one came by itself");
        assert_eq!(holds.count(), 1_200);
    }

    #[test]
    fn no_more_are_woken_at_once_than_there_is_room_for_their_check_ins() {
        let mut holds = Holds::new(1_000, 40);
        let mut receivers: Vec<_> = (0..100)
            .map(|number| {
                let (woken, is_woken) = oneshot::channel();
                holds.enter(node(number), woken).unwrap();
                is_woken
            })
            .collect();
        holds.wake((0..100).map(|number| (node(number), 4)).collect(), Instant::now());
        assert_eq!(count_woken(&mut receivers), 30);
    }

    #[test]
    fn those_who_do_not_come_keep_nobody_for_longer_than_five_seconds() {
        let (mut holds, mut receivers) = holding(1_500);
        let now = Instant::now();
        holds.wake((0..1_500).map(|number| (node(number), 4)).collect(), now);
        assert_eq!(count_woken(&mut receivers), 1_000);
        holds.go_on(now + Duration::from_secs(4));
        assert_eq!(count_woken(&mut receivers), 0);
        holds.go_on(now + Duration::from_secs(5));
        assert_eq!(count_woken(&mut receivers), 500);
    }

    #[test]
    fn who_has_gone_takes_no_turn_and_a_later_request_replaces_an_earlier_one() {
        let (mut holds, mut receivers) = holding(3);
        let (woken, mut again) = oneshot::channel();
        let no = holds.enter(node(1), woken).unwrap();
        assert!(receivers[1].try_recv().is_err_and(|error| error == oneshot::error::TryRecvError::Closed));
        assert!(!holds.leave(node(1), 2), "the earlier one is not there any more");
        receivers.remove(2);
        holds.wake(vec![(node(2), 9), (node(7), 9), (node(1), 9)], Instant::now());
        assert_eq!(again.try_recv(), Ok(9));
        assert_eq!(holds.expected.len(), 1);
        assert!(!holds.leave(node(1), no), "it was answered");
    }

    #[test]
    fn there_are_only_so_many_places() {
        let (mut holds, _receivers) = holding(2);
        assert_eq!(holds.enter(node(2), oneshot::channel().0), None);
        assert!(holds.enter(node(1), oneshot::channel().0).is_some(), "it has one");
        assert!(holds.leave(node(0), 1));
        assert!(holds.enter(node(2), oneshot::channel().0).is_some());
    }
}

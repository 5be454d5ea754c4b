//! What holds in every order in which threads can take their steps.

use loom::sync::Arc;
use loom::sync::Mutex;
use loom::sync::atomic::{AtomicUsize, Ordering};
use loom::thread;

use std::time::Duration;

use crate::sync::{Again, Arrivals, InTurn, Queue, Signal, Turn, Woken};

/// Tries all orders with up to three switches between threads where none has to wait.
fn tried(orders: impl Fn() + Send + Sync + 'static) {
    let mut builder = loom::model::Builder::new();
    builder.preemption_bound = Some(3);
    builder.check(orders);
}

/// Threads that push and deliver: when all are done, all was delivered, once, by one at a time,
/// each thread's news in their order.
#[test]
fn what_is_queued_is_delivered_once_and_in_order() {
    tried(|| {
        let queue = Arc::new(Queue::default());
        let (delivered, delivering) =
            (Arc::new(Mutex::new(Vec::new())), Arc::new(AtomicUsize::new(0)));
        let work = |from: usize| {
            let (queue, delivered, delivering) =
                (queue.clone(), delivered.clone(), delivering.clone());
            move || {
                for news in [from, from + 1] {
                    queue.push(news);
                    queue.deliver(|news| {
                        assert_eq!(delivering.fetch_add(1, Ordering::SeqCst), 0);
                        delivered.lock().unwrap().push(*news);
                        delivering.fetch_sub(1, Ordering::SeqCst);
                    });
                }
            }
        };
        let other = thread::spawn(work(10));
        work(20)();
        other.join().unwrap();
        let delivered = delivered.lock().unwrap();
        let of = |from: usize| {
            delivered.iter().copied().filter(|news| news / 10 == from / 10).collect::<Vec<_>>()
        };
        assert_eq!((delivered.len(), of(10), of(20)), (4, vec![10, 11], vec![20, 21]));
    });
}

/// News that a delivery pushes are delivered as well, after the present one.
#[test]
fn what_a_delivery_pushes_is_delivered_later() {
    tried(|| {
        let queue = Arc::new(Queue::default());
        let delivered = Arc::new(Mutex::new(Vec::new()));
        let work = |news: usize| {
            let (queue, delivered) = (queue.clone(), delivered.clone());
            move || {
                queue.push(news);
                queue.deliver(|news| {
                    if *news < 100 {
                        queue.push(*news * 100);
                        queue.deliver(|_| unreachable!("another thread is delivering already"));
                    }
                    delivered.lock().unwrap().push(*news);
                });
            }
        };
        let other = thread::spawn(work(1));
        work(2)();
        other.join().unwrap();
        let delivered = delivered.lock().unwrap();
        let place = |of: usize| delivered.iter().position(|news| *news == of).unwrap();
        assert!(
            delivered.len() == 4 && place(1) < place(100) && place(2) < place(200),
            "{delivered:?}"
        );
    });
}

/// What is repeated has seen, in the end, what every thread had written before it said so.
#[test]
fn nothing_stays_stale() {
    tried(|| {
        let written = Arc::new(AtomicUsize::new(0));
        let seen = Arc::new(AtomicUsize::new(0));
        let again = Arc::new(Again::new({
            let (written, seen) = (written.clone(), seen.clone());
            move || {
                seen.store(written.load(Ordering::SeqCst), Ordering::SeqCst);
                Ok::<(), ()>(())
            }
        }));
        let work = || {
            let (written, again) = (written.clone(), again.clone());
            move || {
                written.fetch_add(1, Ordering::SeqCst);
                again.run().unwrap();
            }
        };
        let other = thread::spawn(work());
        work()();
        other.join().unwrap();
        assert_eq!(seen.load(Ordering::SeqCst), 2);
    });
}

/// A thread that waits for what another one is about to show returns once it is shown.
#[test]
fn what_is_announced_has_arrived() {
    tried(|| {
        let (arrivals, shown) = (Arc::new(Arrivals::default()), Arc::new(Mutex::new(0)));
        let waits = |beyond: usize| {
            let (arrivals, shown) = (arrivals.clone(), shown.clone());
            move || arrivals.wait_until(|| *shown.lock().unwrap() > beyond)
        };
        let waiting = thread::spawn(waits(1));
        let shows = thread::spawn({
            let (arrivals, shown) = (arrivals.clone(), shown.clone());
            move || {
                for _ in 0..2 {
                    *shown.lock().unwrap() += 1;
                    arrivals.announce();
                }
            }
        });
        waits(0)();
        shows.join().unwrap();
        waiting.join().unwrap();
    });
}

/// A thread that waits for the signal sees, in the end, all that was done before it was raised,
/// also if it had been raised before; and it ends.
#[test]
fn a_raised_signal_is_never_missed() {
    tried(|| {
        let (signal, done) = (Arc::new(Signal::default()), Arc::new(Mutex::new(0)));
        let seen = Arc::new(AtomicUsize::new(0));
        let worker = thread::spawn({
            let (signal, done, seen) = (signal.clone(), done.clone(), seen.clone());
            move || {
                while signal.wait(None, Duration::ZERO) == Woken::Work {
                    seen.store(*done.lock().unwrap(), Ordering::SeqCst);
                }
                seen.store(*done.lock().unwrap(), Ordering::SeqCst);
            }
        });
        let other = thread::spawn({
            let (signal, done) = (signal.clone(), done.clone());
            move || {
                *done.lock().unwrap() += 1;
                signal.raise();
            }
        });
        *done.lock().unwrap() += 1;
        signal.raise();
        other.join().unwrap();
        signal.end();
        worker.join().unwrap();
        assert_eq!(seen.load(Ordering::SeqCst), 2);
    });
}

/// Without an end, the last change is seen as well.
#[test]
fn the_last_thing_is_seen_without_an_end() {
    tried(|| {
        let (signal, done) = (Arc::new(Signal::default()), Arc::new(Mutex::new(0)));
        let worker = thread::spawn({
            let (signal, done) = (signal.clone(), done.clone());
            move || {
                while *done.lock().unwrap() < 2 {
                    signal.wait(None, Duration::ZERO);
                }
            }
        });
        for _ in 0..2 {
            *done.lock().unwrap() += 1;
            signal.raise();
        }
        worker.join().unwrap();
    });
}

/// One at a time; the thread that has the turn may begin again; and each gets it.
#[test]
fn everybody_gets_their_turn_alone() {
    tried(|| {
        let (turns, working) = (Arc::new(InTurn::default()), Arc::new(AtomicUsize::new(0)));
        let work = || {
            let (turns, working) = (turns.clone(), working.clone());
            move || {
                assert!(!turns.is_mine());
                let turn: Turn<'_> = turns.begin();
                assert_eq!(working.fetch_add(1, Ordering::SeqCst), 0);
                drop(turns.begin());
                // Nothing was cut off, so no thread loses a turn.
                turns.free_if_cut_off();
                assert!(turns.is_mine() && turn.is_current());
                working.fetch_sub(1, Ordering::SeqCst);
            }
        };
        let others = [thread::spawn(work()), thread::spawn(work())];
        work()();
        others.into_iter().for_each(|other| other.join().unwrap());
    });
}

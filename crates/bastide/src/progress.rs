//! A progress bar for what takes longer than half a second, on a terminal only.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::{self, IsTerminal};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// What goes by without a bar.
const PATIENCE: Duration = Duration::from_millis(500);

/// How far something is.
pub struct Progress {
    bar: ProgressBar,
    started: Instant,
    shown: AtomicBool,
}

impl Progress {
    /// Nothing of `total` is done.
    pub fn new(total: usize) -> Progress {
        let bar = ProgressBar::with_draw_target(Some(total as u64), ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("{bar:40} {percent:>3} %  {human_pos} of {human_len} resources");
        bar.set_style(style.expect("the template is one"));
        Progress { bar, started: Instant::now(), shown: AtomicBool::new(!io::stderr().is_terminal()) }
    }

    /// So many more are done.
    pub fn advance(&self, count: u64) {
        self.bar.inc(count);
        if self.started.elapsed() > PATIENCE && !self.shown.swap(true, Ordering::Relaxed) {
            self.bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(5));
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// What is being looked for, where that takes longer than half a second.
pub struct Telling {
    bar: ProgressBar,
    started: Instant,
    shown: AtomicBool,
}

impl Telling {
    /// Nothing yet.
    pub fn new() -> Telling {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        bar.set_style(
            ProgressStyle::with_template("{spinner} looking for {msg}  {elapsed}").expect("the template is one"),
        );
        Telling { bar, started: Instant::now(), shown: AtomicBool::new(!io::stderr().is_terminal()) }
    }

    /// That files are being read. Nobody says when it goes on: it is told by the clock.
    pub fn reading() -> Telling {
        Telling::by_the_clock("reading the estate")
    }

    /// That a system is being read.
    pub fn importing(name: &str) -> Telling {
        Telling::by_the_clock(&format!("reading {}", crate::print::text::visible(name)))
    }

    fn by_the_clock(what: &str) -> Telling {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        bar.set_style(ProgressStyle::with_template("{spinner} {msg}  {elapsed}").expect("the template is one"));
        bar.set_message(what.to_string());
        let telling = Telling { bar, started: Instant::now(), shown: AtomicBool::new(true) };
        if io::stderr().is_terminal() {
            let bar = telling.bar.clone();
            std::thread::spawn(move || {
                std::thread::sleep(PATIENCE);
                if !bar.is_finished() {
                    bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(5));
                    bar.enable_steady_tick(Duration::from_millis(200));
                }
            });
        }
        telling
    }

    /// Now this.
    pub fn tell(&self, what: &str) {
        self.bar.set_message(what.to_string());
        if self.started.elapsed() > PATIENCE && !self.shown.swap(true, Ordering::Relaxed) {
            self.bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(5));
            self.bar.enable_steady_tick(Duration::from_millis(200));
        }
        self.bar.tick();
    }
}

impl Drop for Telling {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

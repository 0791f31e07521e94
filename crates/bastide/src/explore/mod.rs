//! `bastide explore`: the full-screen view.

mod draw;
mod keys;
mod state;
#[cfg(test)]
mod tests;
mod worker;

use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, Opened};
use crate::print::changes;
use crate::terminal::Terminal;
use bastide_engine::change::describe;
use bastide_engine::{Cancel, sessions};
use clap::Args;
use draw::{Places, draw};
use ratatui::backend::{Backend, CrosstermBackend, TestBackend};
use ratatui::crossterm::event::{
    self, DisableMouseCapture, EnableMouseCapture, Event, KeyEvent, KeyEventKind, MouseButton, MouseEvent,
    MouseEventKind,
};
use ratatui::crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use ratatui::crossterm::{cursor, execute};
use ratatui::layout::Rect;
use state::{State, Wish};
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use worker::{Ask, Stop, Told, World, stop, work};

#[derive(Args, Debug)]
pub struct ExploreArgs {
    #[command(flatten)]
    moment: MomentArgs,
    /// Play the keys in a file without a terminal, and print the last screen
    #[arg(long, value_name = "FILE")]
    replay: Option<PathBuf>,
    /// How large the screen is that they are played on
    #[arg(long, value_name = "COLUMNSxROWS", default_value = "140x42", value_parser = size)]
    size: (u16, u16),
    /// At the end, say how long it took to answer keys
    #[arg(long)]
    measure: bool,
}

fn size(text: &str) -> Result<(u16, u16), String> {
    let read = |text: &str| text.parse::<u16>().ok().filter(|number| (1..=1000).contains(number));
    let (columns, rows) = text.split_once('x').ok_or("expected a size such as 140x42")?;
    read(columns).zip(read(rows)).ok_or_else(|| "expected a size such as 140x42, up to 1000x1000".to_string())
}

/// The thread that works things out, and what it is asked.
struct Work {
    asks: Sender<Ask>,
    answers: Receiver<Told>,
    stops: Stop,
    marks: u64,
}

impl Work {
    fn begin(world: World) -> Result<Work, Failure> {
        let ((asks, queue), (sender, answers)) = (channel(), channel());
        let stops: Stop = Arc::new(Mutex::new(Cancel::default()));
        let of_thread = Arc::clone(&stops);
        std::thread::Builder::new()
            .name("answers".to_string())
            .spawn(move || work(world, &queue, &sender, &of_thread))
            .map_err(|error| Failure::Outside(format!("no thread can be started: {error}")))?;
        Ok(Work { asks, answers, stops, marks: 0 })
    }

    /// Asks what has come up.
    fn ask(&self, state: &mut State) {
        let asks = state.take_asks();
        if asks.is_empty() {
            return;
        }
        asks.into_iter().for_each(|ask| drop(self.asks.send(ask)));
        stop(&self.stops);
    }

    /// Waits until everything that has come up is answered.
    fn settle(&mut self, state: &mut State) -> Result<(), Failure> {
        loop {
            self.ask(state);
            self.marks += 1;
            let gone = |_| Failure::Outside("the thread that works things out has ended".to_string());
            self.asks.send(Ask::Mark(self.marks)).map_err(|_| gone(()))?;
            loop {
                match self.answers.recv().map_err(|_| gone(()))? {
                    Told::Mark(mark) if mark == self.marks => break,
                    told => state.told(told),
                }
            }
            let asks = state.take_asks();
            if asks.is_empty() {
                return Ok(());
            }
            asks.into_iter().for_each(|ask| drop(self.asks.send(ask)));
        }
    }
}

/// One estate on the screen.
struct Session {
    state: State,
    work: Work,
    title: String,
}

impl Session {
    fn begin(args: &ExploreArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<Session, Failure> {
        let opened: Opened = estate.open(terminal)?;
        let moment = args.moment.moment(opened.estate())?;
        let snapshot = opened.snapshot(&moment, terminal)?;
        let told = sessions::told(opened.estate().schema(), &moment).join(" ");
        let title = format!("{}  {} {told}", opened.estate().name(), moment.date);
        let state = State::new(opened.estate().clone());
        let work = Work::begin(World::new(Arc::new(opened), snapshot, moment))?;
        Ok(Session { state, work, title })
    }

    /// The parts of the screen have their places.
    fn resized(&mut self, area: Rect) {
        let places = Places::of(area, self.state.estate.schema().actions.len());
        self.state.resized(usize::from(places.rows), usize::from(places.columns), usize::from(area.width));
    }
}

pub fn run(args: &ExploreArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let root = estate.root()?;
    let mut session = Session::begin(args, estate, terminal)?;
    if let Some(file) = &args.replay {
        // A file here, or else in the estate.
        let in_estate = root.join(file);
        let file = if !file.exists() && in_estate.exists() { &in_estate } else { file };
        let text = std::fs::read_to_string(file);
        let text = text.map_err(|error| Failure::Outside(format!("`{}` cannot be read: {error}", file.display())))?;
        let keys =
            keys::read(&text).map_err(|wrong| Failure::Usage(format!("`{}`, {wrong}", file.display()), Vec::new()))?;
        return replay(args, estate, terminal, &mut session, &root, &keys);
    }
    if !io::stdout().is_terminal() || !io::stdin().is_terminal() {
        let hints = vec!["to play keys without one, `--replay FILE`".to_string()];
        return Err(Failure::Usage("`bastide explore` fills a terminal, and there is none".to_string(), hints));
    }
    let mut times = Vec::new();
    let screen = Screen::enter()?;
    let ended = interactive(args, estate, terminal, &mut session, &root, &mut times);
    drop(screen);
    ended?;
    for rule in &session.state.written {
        terminal.print(&format!("not saved: {rule}\n"))?;
    }
    if !session.state.changes.is_empty() {
        let described: Vec<_> =
            session.state.changes.iter().map(|change| describe(&session.state.estate, change)).collect();
        terminal.print(&format!("not saved: {}\n", changes::command(&described)))?;
    }
    if args.measure {
        terminal.print(&measured(&mut times))?;
    }
    Ok(DONE)
}

/// How long keys took, from the key to the screen that answers it.
fn measured(times: &mut [f64]) -> String {
    if times.is_empty() {
        return "no key was pressed\n".to_string();
    }
    times.sort_by(f64::total_cmp);
    let at = |share: f64| 1000.0 * times[((times.len() - 1) as f64 * share) as usize];
    format!(
        "{} keys: median {:.1} ms, 99th of a hundred {:.1} ms, at most {:.1} ms\n",
        times.len(),
        at(0.5),
        at(0.99),
        at(1.0)
    )
}

/// Plays keys without a terminal. Each is answered in full before the next.
fn replay(
    args: &ExploreArgs,
    estate: &EstateArgs,
    terminal: &mut Terminal,
    session: &mut Session,
    root: &Path,
    keys: &[KeyEvent],
) -> Result<u8, Failure> {
    let (columns, rows) = args.size;
    let failed = |error: std::convert::Infallible| Failure::Outside(error.to_string());
    let mut screen = ratatui::Terminal::new(TestBackend::new(columns, rows)).map_err(failed)?;
    session.resized(Rect::new(0, 0, columns, rows));
    session.work.settle(&mut session.state)?;
    let mut times = Vec::new();
    for key in keys {
        let begun = Instant::now();
        match session.state.key(*key) {
            Some(Wish::Quit) => break,
            Some(Wish::Save(options, far)) => {
                save(session, args, estate, terminal, root, &options, far)?;
                session.resized(Rect::new(0, 0, columns, rows));
            }
            None => {}
        }
        session.work.settle(&mut session.state)?;
        screen.draw(|frame| draw(&session.state, &session.title, false, frame)).map_err(failed)?;
        times.push(begun.elapsed().as_secs_f64());
    }
    screen.draw(|frame| draw(&session.state, &session.title, false, frame)).map_err(failed)?;
    let buffer = screen.backend().buffer();
    let mut out = String::new();
    for y in 0..rows {
        let mut line = String::new();
        let mut skip = 0;
        for x in 0..columns {
            let symbol = buffer[(x, y)].symbol();
            // A wide character takes the place of the next cell, too.
            if skip > 0 {
                skip -= 1;
                continue;
            }
            skip = crate::print::text::width(symbol).saturating_sub(1);
            line.push_str(symbol);
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    if args.measure {
        out.push_str(&measured(&mut times));
    }
    terminal.print(&out)?;
    Ok(DONE)
}

/// The terminal as a full screen, for as long as this is there.
struct Screen;

/// Whether the terminal is a full screen at the moment.
static ENTERED: AtomicBool = AtomicBool::new(false);

impl Screen {
    fn enter() -> Result<Screen, Failure> {
        let failed = |error: io::Error| Failure::Outside(format!("the terminal cannot be used: {error}"));
        ENTERED.store(true, Ordering::SeqCst);
        let screen = Screen;
        enable_raw_mode().map_err(failed)?;
        execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, cursor::Hide).map_err(failed)?;
        Ok(screen)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        leave();
    }
}

/// Makes the terminal what it was. Whoever ends the program calls it: a signal, a fault.
pub fn leave() {
    if ENTERED.swap(false, Ordering::SeqCst) {
        let _ = execute!(io::stdout(), DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
        let _ = disable_raw_mode();
    }
}

/// How long is waited for a key before it is looked whether an answer has come.
const BEAT: Duration = Duration::from_millis(15);
/// The same where nothing has happened for a while.
const REST: Duration = Duration::from_millis(250);
/// So long is a while.
const WHILE: Duration = Duration::from_secs(10);

fn interactive(
    args: &ExploreArgs,
    estate: &EstateArgs,
    terminal: &mut Terminal,
    session: &mut Session,
    root: &Path,
    times: &mut Vec<f64>,
) -> Result<(), Failure> {
    let failed = |error: io::Error| Failure::Outside(format!("the terminal cannot be used: {error}"));
    let mut screen = ratatui::Terminal::new(CrosstermBackend::new(io::stdout())).map_err(failed)?;
    let colours = terminal.is_coloured();
    let mut stale = true;
    let mut pressed: Option<Instant> = None;
    let mut happened = Instant::now();
    loop {
        loop {
            match session.work.answers.try_recv() {
                Ok(told) => session.state.told(told),
                Err(TryRecvError::Empty) => break,
                // It has said why.
                Err(TryRecvError::Disconnected) => {
                    return Err(Failure::Outside("nothing is worked out any more".to_string()));
                }
            }
            stale = true;
        }
        if stale {
            let area = screen.backend().size().map_err(failed)?;
            session.resized(Rect::new(0, 0, area.width, area.height));
            session.work.ask(&mut session.state);
            screen.draw(|frame| draw(&session.state, &session.title, colours, frame)).map_err(failed)?;
            times.extend(pressed.take().map(|at| at.elapsed().as_secs_f64()));
            (stale, happened) = (false, Instant::now());
        }
        let beat = if happened.elapsed() < WHILE { BEAT } else { REST };
        if !event::poll(beat).map_err(failed)? {
            continue;
        }
        stale = true;
        match event::read().map_err(failed)? {
            Event::Key(key) if key.kind != KeyEventKind::Release => {
                pressed = Some(Instant::now());
                if is_suspend(&key) {
                    suspend()?;
                    // Nothing of what was drawn is there any more. To clear the screen by its own means would ask the
                    // terminal where its cursor is, and not every one answers.
                    screen = ratatui::Terminal::new(CrosstermBackend::new(io::stdout())).map_err(failed)?;
                    continue;
                }
                match session.state.key(key) {
                    Some(Wish::Quit) => return Ok(()),
                    Some(Wish::Save(options, far)) => save(session, args, estate, terminal, root, &options, far)?,
                    None => {}
                }
            }
            Event::Mouse(mouse) => clicked(session, mouse, screen.backend().size().map_err(failed)?),
            _ => {}
        }
    }
}

fn is_suspend(key: &KeyEvent) -> bool {
    use ratatui::crossterm::event::{KeyCode, KeyModifiers};
    cfg!(unix) && key.code == KeyCode::Char('z') && key.modifiers.contains(KeyModifiers::CONTROL)
}

/// Lets the shell have the terminal until it gives it back.
#[cfg(unix)]
fn suspend() -> Result<(), Failure> {
    leave();
    let _ = signal_hook::low_level::emulate_default_handler(signal_hook::consts::SIGTSTP);
    std::mem::forget(Screen::enter()?);
    Ok(())
}

#[cfg(not(unix))]
fn suspend() -> Result<(), Failure> {
    Ok(())
}

/// A click goes to a cell, a click on the cell's place opens it; the wheel goes up and down.
fn clicked(session: &mut Session, mouse: MouseEvent, size: ratatui::layout::Size) {
    let state = &mut session.state;
    if !matches!(state.mode, state::Mode::Table) {
        return;
    }
    let area = Rect::new(0, 0, size.width, size.height);
    let places = Places::of(area, state.estate.schema().actions.len());
    let last = state.rows.len().saturating_sub(1);
    match mouse.kind {
        MouseEventKind::ScrollDown => state.go((state.at + 3).min(last), state.column),
        MouseEventKind::ScrollUp => state.go(state.at.saturating_sub(3), state.column),
        MouseEventKind::Down(MouseButton::Left) if (2..2 + places.rows).contains(&mouse.row) => {
            let at = state.top + usize::from(mouse.row) - 2;
            if at > last {
                return;
            }
            if mouse.column < places.tree {
                state.go(at, state.column);
                state.fold();
            } else {
                let column = usize::from((mouse.column - places.tree) / places.column);
                if state.whose(column).is_some() {
                    state.go(at, state.left + column);
                }
            }
        }
        _ => {}
    }
}

/// Saves the changes as `try --write` does, in a program of its own: it takes the lock, reads the files as they are by then, and
/// holds guarantees. Then the estate is read anew.
fn save(
    session: &mut Session,
    args: &ExploreArgs,
    estate: &EstateArgs,
    terminal: &mut Terminal,
    root: &Path,
    options: &[[String; 2]],
    far: bool,
) -> Result<(), Failure> {
    let mut command = std::process::Command::new(std::env::current_exe()?);
    command
        .arg("-q")
        .arg("-C")
        .arg(root)
        .arg("try")
        .args(options.iter().map(|[name, value]| format!("{name}={value}")));
    // Rules are laid over the policy, each from a file of its own.
    let folder = tempfile::tempdir()?;
    for (at, rule) in session.state.written.iter().enumerate() {
        let file = folder.path().join(format!("{at}.bastide"));
        std::fs::write(&file, format!("{rule}\n"))?;
        command.arg("--add").arg(file);
    }
    command.args(["--write", "--color", "never"]).args(far.then_some("--far")).stdin(std::process::Stdio::null());
    if let Some(day) = args.moment.on {
        command.arg("--on").arg(day.to_string());
    }
    command.args(args.moment.session.iter().flat_map(|given| ["--session", given]));
    let output = command.output()?;
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    // With status 1 it is written, too, where tests fail that are no guarantees; what is refused is said.
    let refused = told.contains("nothing is written") || !matches!(output.status.code(), Some(0 | 1));
    if refused {
        let first = told.lines().find(|line| !line.trim().is_empty()).unwrap_or("it failed").to_string();
        session.state.said = format!("not saved: {first}");
        return Ok(());
    }
    let old = std::mem::replace(session, Session::begin(args, estate, terminal)?);
    session.state.take_over(&old.state);
    session.state.said = "saved".to_string();
    Ok(())
}

//! Where a command's output goes: a terminal, a pipe, a file, or the tour of the demo.

use crate::failure::Failure;
use bastide_formats::stray::{self, Stray};
use bastide_formats::write::{keep, may_be_replaced};
use bastide_syntax::no_commands;
use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};

/// When to colour.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Color {
    /// On a terminal, unless `NO_COLOR` is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// A temporary file beside the one it will replace, with its permissions.
pub fn temporary_beside(path: &Path, folder: &Path) -> io::Result<tempfile::NamedTempFile> {
    let mut builder = tempfile::Builder::new();
    builder.prefix(stray::DRAFT).rand_bytes(stray::LETTERS);
    #[cfg(unix)]
    builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
    let temporary = builder.tempfile_in(folder)?;
    if let Ok(known) = std::fs::metadata(path) {
        may_be_replaced(path, &known).map_err(io::Error::other)?;
        keep(temporary.as_file(), path)?;
    }
    Ok(temporary)
}

/// The file that is meant: what a link leads to, be it there or not.
fn target(path: &Path) -> PathBuf {
    if let Ok(real) = std::fs::canonicalize(path) {
        return real;
    }
    let mut at = path.to_path_buf();
    // Links that lead round in a circle end the search; writing then says what is wrong.
    for _ in 0..40 {
        let Ok(next) = std::fs::read_link(&at) else { break };
        at = at.parent().unwrap_or(Path::new("")).join(next);
    }
    at
}

/// Whether a file stands for the standard output.
pub fn is_standard_output(path: &Path) -> bool {
    path == Path::new("-") || path == Path::new("/dev/stdout") || path == Path::new("/proc/self/fd/1")
}

/// Output and error output of one run.
#[derive(Clone)]
pub struct Terminal {
    color: bool,
    width: usize,
    by_hand: bool,
    /// Whether the warnings of the estate were mentioned.
    pub warned: bool,
}

impl Terminal {
    /// The real one.
    pub fn real(color: Color) -> Terminal {
        let terminal = io::stdout().is_terminal();
        let color = match color {
            Color::Always => true,
            Color::Never => false,
            // By the terminal, `NO_COLOR`, `CLICOLOR`, `CLICOLOR_FORCE` and `TERM=dumb`.
            Color::Auto => !matches!(anstream::AutoStream::choice(&io::stdout()), anstream::ColorChoice::Never),
        };
        let asked = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
        let found = terminal_size::terminal_size().filter(|_| terminal).map(|(w, _)| w.0 as usize);
        let width = found.or(asked).unwrap_or(100).clamp(40, 400);
        // Scripts name what they mean exactly, and so does whoever writes or asks for a form that is read by a program.
        let by_script = |word: String| {
            ["--exit-code", "--write", "--output", "--format", "-o"].iter().any(|option| word.starts_with(option))
        };
        let by_hand = terminal && io::stderr().is_terminal() && !std::env::args().any(by_script);
        Terminal { color, width, by_hand, warned: false }
    }

    /// Whether colours are shown.
    pub fn is_coloured(&self) -> bool {
        self.color
    }

    /// The width of the terminal in columns; 100 where there is none.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Whether somebody asks who sees at once whom and what was taken.
    pub fn by_hand(&self) -> bool {
        self.by_hand
    }

    /// Whether to colour what does not pass through [`Terminal::print`].
    pub fn color(&self) -> bool {
        self.color
    }

    /// Fingerprints a text that may hold colours.
    ///
    /// # Errors
    /// The output is closed or full.
    pub fn print(&mut self, text: &str) -> Result<(), Failure> {
        let plain;
        let text = if self.color {
            text
        } else {
            plain = bastide_rows::text::plain(text);
            &plain
        };
        let mut out = io::stdout().lock();
        out.write_all(no_commands(text).as_bytes())?;
        Ok(out.flush()?)
    }

    /// Fingerprints a text to a file where one is named, else like [`Terminal::print`]. A file gets no colours
    /// and is either written whole or left as it was.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn deliver(&mut self, text: &str, file: Option<&Path>) -> Result<(), Failure> {
        match file.filter(|path| !is_standard_output(path)) {
            None => self.print(text),
            Some(_) => self.stream(file, |out| out.write_all(bastide_rows::text::plain(text).as_bytes())),
        }
    }

    /// Gives `write` a buffered writer to the output or to a file, which appears only once it is whole.
    ///
    /// # Errors
    /// The output is closed or full, or the file cannot be written.
    pub fn stream(
        &mut self,
        file: Option<&Path>,
        write: impl FnOnce(&mut (dyn Write + Send)) -> io::Result<()>,
    ) -> Result<(), Failure> {
        let Some(path) = file.filter(|path| !is_standard_output(path)) else {
            let mut out = BufWriter::with_capacity(1 << 16, io::stdout());
            write(&mut out)?;
            return Ok(out.flush()?);
        };
        let named = |error: io::Error| Failure::Outside(format!("`{}` cannot be written: {error}", path.display()));
        // What is no regular file is written through: a device, a pipe, what the shell hands over.
        let through = std::fs::metadata(path).is_ok_and(|meta| !meta.is_file() && !meta.is_dir())
            || path.starts_with("/dev/fd")
            || path.starts_with("/proc/self/fd")
            || path == Path::new("/dev/stderr");
        if through {
            let opened = std::fs::OpenOptions::new().append(true).open(path);
            let opened = opened.or_else(|_| std::fs::OpenOptions::new().write(true).open(path)).map_err(named)?;
            let mut out = BufWriter::with_capacity(1 << 16, opened);
            return write(&mut out).and_then(|()| out.flush()).map_err(|error| match error.kind() {
                io::ErrorKind::BrokenPipe => Failure::Closed,
                _ => named(error),
            });
        }
        // A link stays a link: what it leads to is replaced.
        let path = &target(path);
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        stray::sweep(folder);
        let made = Stray::make(|| temporary_beside(path, folder), |made| made.path().to_path_buf());
        let (temporary, stray) = made.map_err(named)?;
        let mut out = BufWriter::with_capacity(1 << 16, temporary);
        write(&mut out).map_err(named)?;
        let temporary = out.into_inner().map_err(|e| named(e.into_error()))?;
        temporary.as_file().sync_all().map_err(named)?;
        temporary.persist(path).map_err(|e| named(e.error))?;
        drop(stray);
        Ok(())
    }

    /// Writes a file whole, or leaves it as it was.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn replace(&mut self, file: &Path, text: &str) -> Result<(), Failure> {
        self.stream(Some(file), |out| out.write_all(text.as_bytes()))
    }

    /// Fingerprints to the error output; a closed one is nobody's trouble.
    pub fn complain(&self, text: &str) {
        let terminal = io::stderr().is_terminal() && self.color;
        let plain = bastide_rows::text::plain(text);
        let text = no_commands(if terminal { text } else { &plain });
        let _ = io::stderr().write_all(text.as_bytes());
    }
}

//! Keys from a file: one a line by its name, or `type` and a text.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// The keys that a text names.
///
/// # Errors
/// The line that names none.
pub fn read(text: &str) -> Result<Vec<KeyEvent>, String> {
    let mut keys = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with("# ") {
            continue;
        }
        if let Some(typed) = line.strip_prefix("type ") {
            keys.extend(typed.chars().map(|c| KeyEvent::new(KeyCode::Char(c), KeyModifiers::NONE)));
            continue;
        }
        let (code, modifiers) = match line {
            "Up" => (KeyCode::Up, KeyModifiers::NONE),
            "Down" => (KeyCode::Down, KeyModifiers::NONE),
            "Left" => (KeyCode::Left, KeyModifiers::NONE),
            "Right" => (KeyCode::Right, KeyModifiers::NONE),
            "PageUp" => (KeyCode::PageUp, KeyModifiers::NONE),
            "PageDown" => (KeyCode::PageDown, KeyModifiers::NONE),
            "Home" => (KeyCode::Home, KeyModifiers::NONE),
            "End" => (KeyCode::End, KeyModifiers::NONE),
            "Enter" => (KeyCode::Enter, KeyModifiers::NONE),
            "Esc" => (KeyCode::Esc, KeyModifiers::NONE),
            "Tab" => (KeyCode::Tab, KeyModifiers::NONE),
            "BackTab" => (KeyCode::BackTab, KeyModifiers::SHIFT),
            "Backspace" => (KeyCode::Backspace, KeyModifiers::NONE),
            "Space" => (KeyCode::Char(' '), KeyModifiers::NONE),
            "Ctrl-c" => (KeyCode::Char('c'), KeyModifiers::CONTROL),
            one if one.chars().count() == 1 => (KeyCode::Char(one.chars().next().unwrap_or(' ')), KeyModifiers::NONE),
            other => return Err(format!("line {}: `{other}` is no key", at + 1)),
        };
        keys.push(KeyEvent::new(code, modifiers));
    }
    Ok(keys)
}

//! Rows as their source shapes them: columns under other names, columns that are left aside, values in other words, and what
//! a whole source says of each of its rows.

use crate::cells::join_set;
use crate::csv_table::{Cells, unknown_column};
use crate::manifest::DataSource;
use bastide_model::rows::RowPlace;
use bastide_model::schema::split_set;
use bastide_syntax::{Diagnostics, Span};
use hashbrown::HashMap;

/// Ids by path, of rows that give their parents so; none where several have one path.
pub type Paths = HashMap<String, Option<String>>;

/// Where the rows of a file say their parents by path, what is at which path.
pub struct ByPath<'p> {
    /// The columns of the parent and of the name.
    pub parent: usize,
    /// The column of the name.
    pub name: usize,
    /// What is known; nothing while it is being gathered.
    pub paths: &'p Paths,
}

/// A path without blanks between its segments, and without `/` at its ends.
pub fn path(text: &str) -> String {
    let mut segments = vec![String::new()];
    let mut letters = text.chars();
    while let Some(c) = letters.next() {
        match c {
            '\\' => {
                let last = segments.last_mut().expect("never empty");
                last.push('\\');
                last.extend(letters.next());
            }
            '/' => segments.push(String::new()),
            c => segments.last_mut().expect("never empty").push(c),
        }
    }
    let plain: Vec<&str> = segments.iter().map(|s| s.trim()).filter(|s| !s.is_empty()).collect();
    plain.join("/")
}

/// The path of something in a folder.
pub fn inside(folder: &str, name: &str) -> String {
    let name = name.replace('\\', "\\\\").replace('/', "\\/");
    let folder = path(folder);
    if folder.is_empty() { name } else { format!("{folder}/{name}") }
}

impl DataSource {
    /// Our name for a column of theirs.
    pub fn ours<'n>(&'n self, theirs: &'n str) -> &'n str {
        self.attributes.iter().find(|(name, _)| name == theirs).map_or(theirs, |(_, ours)| &ours.text)
    }

    /// Whether a column of theirs is left aside.
    pub fn ignores(&self, theirs: &str) -> bool {
        self.ignore.iter().any(|name| name.text == theirs)
    }

    /// A value in our words. Of a set each element is.
    pub fn value(&self, ours: &str, set: bool, text: &str) -> Option<String> {
        let (_, words) = self.values.iter().find(|(name, _)| name.text == ours)?;
        let word = |text: &str| {
            let found = words.iter().find(|(theirs, _)| theirs == text);
            found.map_or_else(|| text.to_string(), |(_, ours)| ours.text.clone())
        };
        Some(if set {
            join_set(split_set(text).iter().map(|element| word(element)).collect::<Vec<_>>().iter().map(String::as_str))
        } else {
            word(text)
        })
    }
}

/// Reports names of ours, in what a source says of its columns and values, that are none.
pub fn look(source: &DataSource, known: &[String], out: &mut Diagnostics) {
    let ours = source.attributes.iter().map(|(_, ours)| ours).chain(source.values.iter().map(|(of, _)| of));
    for name in ours.filter(|name| !known.contains(&name.text)) {
        out.push(unknown_column(&name.text, name.span, known));
    }
}

/// How the rows of a file are shaped: by column, our name and whether it holds a set, where the source has other words
/// for its values.
pub struct Shape<'s> {
    source: &'s DataSource,
    columns: Vec<Option<(String, bool)>>,
    /// The column of the kind, and what it is where a row does not say it.
    kind: Option<(usize, &'s str)>,
    /// The column of the id, where it is the path.
    id: Option<usize>,
    by_path: Option<ByPath<'s>>,
    /// How many columns the file has.
    width: usize,
}

impl<'s> Shape<'s> {
    /// Of the columns of a file by our names (none for those that are left aside), and whether a field of ours holds a set.
    pub fn new(source: &'s DataSource, ours: &[Option<String>], is_set: &dyn Fn(&str) -> bool) -> Shape<'s> {
        let has_words = |name: &&String| source.values.iter().any(|(of, _)| of.text == **name);
        let columns = ours.iter().map(|name| name.as_ref().filter(has_words).map(|name| (name.clone(), is_set(name))));
        Shape { source, columns: columns.collect(), kind: None, id: None, by_path: None, width: ours.len() }
    }

    /// Each row has a kind, where the source says one: the column in which it stands, one more than the file has where it
    /// has none.
    pub fn with_kind(&mut self, column: Option<usize>) -> Option<usize> {
        let kind = self.source.kind.as_ref()?;
        let at = column.unwrap_or(self.width);
        self.width = self.width.max(at + 1);
        self.kind = Some((at, &kind.text));
        Some(at)
    }

    /// Parents are given by path. The column of the id, one more than there are where the file has none: then the path is the
    /// id.
    pub fn with_paths(&mut self, by_path: ByPath<'s>, id: Option<usize>) -> usize {
        self.by_path = Some(by_path);
        id.unwrap_or_else(|| {
            self.id = Some(self.width);
            self.width += 1;
            self.width - 1
        })
    }

    /// Whether rows are as they stand in the file.
    pub fn is_plain(&self) -> bool {
        self.kind.is_none() && self.by_path.is_none() && self.columns.iter().all(Option::is_none)
    }

    /// A row as it is meant.
    pub fn row<'r, R: Cells>(&self, row: &'r R) -> Shaped<'r, R> {
        let mut texts: Vec<Option<String>> = vec![None; self.width];
        for (at, column) in self.columns.iter().enumerate() {
            let Some((ours, set)) = column else { continue };
            texts[at] = self.source.value(ours, *set, row.text(at)).filter(|text| text != row.text(at));
        }
        let text = |at: usize, texts: &[Option<String>]| texts[at].clone().unwrap_or_else(|| row.text(at).to_string());
        if let Some((at, kind)) = self.kind
            && (at >= self.columns.len() || text(at, &texts).is_empty())
        {
            texts[at] = Some(kind.to_string());
        }
        if let Some(by) = &self.by_path {
            let folder = path(&text(by.parent, &texts));
            if let Some(at) = self.id {
                texts[at] = Some(inside(&folder, &text(by.name, &texts)));
            }
            // Where there is nothing, or several, the path stays, and leads nowhere.
            let id = by.paths.get(&folder).cloned().flatten();
            texts[by.parent] = Some(id.unwrap_or(folder));
        }
        Shaped { row, texts }
    }
}

/// A row with some of its cells as they are meant.
pub struct Shaped<'r, R> {
    row: &'r R,
    texts: Vec<Option<String>>,
}

impl<R: Cells> Cells for Shaped<'_, R> {
    fn text(&self, column: usize) -> &str {
        match self.texts.get(column) {
            Some(Some(text)) => text,
            _ => self.row.text(column),
        }
    }

    fn span(&self, column: usize) -> Span {
        self.row.span(column)
    }

    fn place(&self) -> RowPlace {
        self.row.place()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_of_one_form() {
        assert_eq!(path(" /a / b/ "), "a/b");
        assert_eq!(path("a\\/b/c"), "a\\/b/c");
        assert_eq!(inside("", "x/y"), "x\\/y");
        assert_eq!(inside("a/", "b"), "a/b");
    }
}

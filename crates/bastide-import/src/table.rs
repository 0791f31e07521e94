//! Tables of an estate, in an order that does not change from one import to the next.

use std::collections::BTreeSet;

/// Rows under a header, each once, in byte order.
pub struct Table {
    header: &'static [&'static str],
    rows: BTreeSet<Vec<String>>,
}

impl Table {
    pub fn new(header: &'static [&'static str]) -> Table {
        Table { header, rows: BTreeSet::new() }
    }

    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        debug_assert_eq!(N, self.header.len());
        self.rows.insert(cells.into());
    }

    pub fn text(&self) -> String {
        let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(Vec::new());
        let record = |writer: &mut csv::Writer<Vec<u8>>, cells: &mut dyn Iterator<Item = &str>| {
            writer.write_record(cells).expect("a row of texts is written to memory");
        };
        record(&mut writer, &mut self.header.iter().copied());
        for row in &self.rows {
            record(&mut writer, &mut row.iter().map(String::as_str));
        }
        let bytes = writer.into_inner().expect("it is written to memory");
        String::from_utf8(bytes).expect("texts are written")
    }
}

/// The cell of a set.
pub fn set<'t>(elements: impl IntoIterator<Item = &'t str>) -> String {
    let elements: BTreeSet<String> =
        elements.into_iter().map(|e| e.replace('\\', "\\\\").replace(';', "\\;")).collect();
    elements.into_iter().collect::<Vec<_>>().join(";")
}

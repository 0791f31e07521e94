//! Shapes of estates: what is added to an ordinary one, so that each of them has something that is hard in another way.

use crate::Size;
use clap::ValueEnum;
use fastrand::Rng;

/// What is hard about an estate.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum, Debug)]
pub enum Shape {
    /// Nothing: few values, few entries.
    Ordinary,
    /// Sets of one to four of 200 values on both sides.
    Overlap,
    /// Sets of one to four of 3,000 values on both sides.
    OverlapMany,
    /// Equal texts, 20,000 values, and a prohibition for all others.
    Tenant,
    /// Every item lists up to thirty users.
    Readers,
    /// Numbers, 100,000 different.
    Level,
    /// Dates, 4,000 different.
    Dates,
    /// 40 patterns of names, and an attribute that equals a container's name.
    Names,
    /// Entries on folders and items, half for single users, a fifth that take away; the nearest one decides.
    Own,
    /// Rules for owners with conditions.
    Owners,
    /// A fifth of the items have sources, in chains of ten; labels and needs travel along.
    Links,
    /// As many groups as a tenth of the resources, nested in chains of fifty and in cycles.
    Groups,
    /// As many rules as a fiftieth of the resources, each with a place and a condition, a tenth of which tell items apart.
    Rules,
    /// A folder that holds two fifths of everything.
    Wide,
    /// Folders in each other, a thousand levels deep.
    Deep,
    /// All of them, half the size of each.
    All,
}

impl Shape {
    /// Whether an estate of this shape has what makes another hard.
    pub fn has(self, other: Shape) -> bool {
        self == other || self == Shape::All && other != Shape::Ordinary
    }

    /// How much of it there is.
    pub fn share(self, of: usize) -> usize {
        if self == Shape::All { (of / 2).max(1) } else { of.max(1) }
    }
}

/// A column: its name, and what stands in it.
pub type Column = (&'static str, Box<dyn Fn(&mut Rng) -> String>);

/// What a shape adds to people, to items and to the policy.
#[derive(Default)]
pub struct Extra {
    /// Columns of people.
    pub user: Vec<Column>,
    /// Columns of items.
    pub item: Vec<Column>,
    /// Declarations.
    pub vocabulary: String,
    /// Rules, without their names.
    pub rules: Vec<String>,
}

fn set_of(most: usize, values: usize) -> impl Fn(&mut Rng) -> String {
    move |rng| {
        let count = rng.usize(1..=most);
        (0..count).map(|_| format!("v{}", rng.usize(..values))).collect::<Vec<_>>().join(";")
    }
}

impl Extra {
    fn both(&mut self, name: &'static str, column: impl Fn(&mut Rng) -> String + Clone + 'static) {
        self.user.push((name, Box::new(column.clone())));
        self.item.push((name, Box::new(column)));
    }

    /// What a shape adds.
    pub fn of(size: &Size) -> Extra {
        let (shape, users) = (size.shape, size.users);
        let mut extra = Extra::default();
        let mut declare = String::new();
        let rule = |rules: &mut Vec<String>, text: &str| rules.push(text.to_string());
        if shape.has(Shape::Overlap) {
            declare.push_str("attribute projects of user, resource: set of text\n");
            let values = shape.share(200);
            extra.both("projects", move |rng| set_of(4, values)(rng));
            rule(
                &mut extra.rules,
                "who anyone where user.projects overlaps resource.projects may read, comment what item",
            );
        }
        if shape.has(Shape::OverlapMany) {
            declare.push_str("attribute tags of user, resource: set of text\n");
            let values = shape.share(3000);
            extra.both("tags", move |rng| set_of(4, values)(rng));
            rule(&mut extra.rules, "who anyone where user.tags overlaps resource.tags may read, update what item");
        }
        if shape.has(Shape::Tenant) {
            declare.push_str("attribute tenant of user, resource: text\n");
            let values = shape.share(20_000);
            extra.both("tenant", move |rng| format!("t{}", rng.usize(..values)));
            rule(&mut extra.rules, "who anyone where user.tenant = resource.tenant may read, update what item");
            rule(&mut extra.rules, "who anyone where user.tenant != resource.tenant may never publish what item");
        }
        if shape.has(Shape::Readers) {
            declare.push_str("attribute readers of resource: set of text\n");
            let most = shape.share(30);
            let reader = move |rng: &mut Rng| {
                let count = rng.usize(1..=most);
                (0..count).map(|_| format!("u{:06}", rng.usize(..users))).collect::<Vec<_>>().join(";")
            };
            extra.item.push(("readers", Box::new(reader)));
            rule(&mut extra.rules, "who anyone where user.id in resource.readers may read what item");
        }
        if shape.has(Shape::Level) {
            declare.push_str("attribute level of user, resource: number\n");
            let values = shape.share(100_000);
            extra.both("level", move |rng| rng.usize(..values).to_string());
            rule(&mut extra.rules, "who anyone where user.level >= resource.level may read, comment what item");
        }
        if shape.has(Shape::Dates) {
            declare.push_str("attribute since of user: date\nattribute opened of resource: date\n");
            let years = shape.share(12) as u32;
            let day =
                move |rng: &mut Rng| format!("{}-{:02}-{:02}", 2014 + rng.u32(..years), rng.u32(1..13), rng.u32(1..29));
            extra.user.push(("since", Box::new(day)));
            extra.item.push(("opened", Box::new(day)));
            rule(&mut extra.rules, "who anyone where user.since <= resource.opened may read, export what item");
        }
        if shape.has(Shape::Names) {
            declare.push_str("attribute place of user: text\n");
            let containers = size.resources / 50;
            extra.user.push(("place", Box::new(move |rng| format!("folder {}", rng.usize(..containers.max(1))))));
            rule(&mut extra.rules, "who anyone where user.place = resource.parent.name may read, update what item");
            for at in 0..shape.share(40) {
                let pattern = [format!("*{at}"), format!("item {at}*"), format!("*{}?{}*", at % 10, at % 7)];
                extra.rules.push(format!(
                    "who members of g{} may comment what item where resource.name like \"{}\"",
                    at + 1,
                    pattern[at % 3]
                ));
            }
        }
        if shape.has(Shape::Owners) {
            rule(&mut extra.rules, "who owner may update, export what item where resource.state != archived");
            rule(&mut extra.rules, "who owner may not publish what item where resource.label >= restricted");
        }
        if shape.has(Shape::Rules) {
            extra.rules.extend((0..shape.share(size.resources / 50)).map(|at| {
                let narrowing = match at % 10 {
                    0 => format!("where resource.name like \"*{}\"", at % 1000),
                    1..=4 => "where resource.state = released".to_string(),
                    _ => "where resource.label <= internal".to_string(),
                };
                let group = at % crate::data::GROUPS;
                // Folders come after streams and workspaces, and are a fiftieth of all.
                let folder = crate::data::FOLDERS + at % (size.resources / 50).max(1);
                format!("who members of g{group} may read, update what item under id \"r{folder:07}\" {narrowing}")
            }));
        }
        extra.vocabulary = declare;
        extra
    }
}

//! Rules to typed statements.

use crate::groups::forbid;
use crate::literal::bad_date;
use crate::lost::names;
use crate::scope::Scope;
use bastide_model::condition::Who;
use bastide_model::schema::read_date;
use bastide_model::statement::{Sort, What};
use bastide_model::*;
use bastide_syntax::tree::{self, ClauseBody, DateText, Declaration, Items};
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes};
use fixedbitset::FixedBitSet;
use jiff::civil::Date;

pub(crate) fn rules(
    scope: &Scope,
    trees: &[tree::File],
    line: &dyn Fn(Span) -> u32,
    out: &mut Diagnostics,
) -> Vec<Statement> {
    let declarations = trees.iter().flat_map(|t| &t.declarations);
    let rules = declarations.filter_map(|d| if let Declaration::Rule(r) = d { Some(r) } else { None });
    rules.filter_map(|rule| scope.rule(rule, line, out)).collect()
}

impl Scope<'_> {
    /// A rule, typed. None where one of its conditions has a mistake, which is reported: without the condition it would reach
    /// further. What is said of it is gathered apart first: what it has lost is made out from that.
    pub(crate) fn rule(
        &self,
        rule: &tree::Rule,
        line: &dyn Fn(Span) -> u32,
        out: &mut Diagnostics,
    ) -> Option<Statement> {
        let mut told = Diagnostics::new();
        let statement = self.typed(rule, line, &mut told);
        out.extend(told);
        let written = rule.clauses.iter().filter(|clause| match &clause.body {
            ClauseBody::Who(who) => who.condition.is_some(),
            ClauseBody::What(what) => what.condition.is_some(),
            ClauseBody::While(_) => true,
            ClauseBody::Because(_) | ClauseBody::Layer(_) | ClauseBody::May(..) => false,
            ClauseBody::From(_) | ClauseBody::Until(_) => false,
        });
        (written.count() == statement.conditions().count()).then_some(statement)
    }

    fn typed(&self, rule: &tree::Rule, line: &dyn Fn(Span) -> u32, out: &mut Diagnostics) -> Statement {
        let mut statement = Statement {
            name: rule.name.text.clone(),
            sort: Sort::Rule,
            origin: Origin { file: rule.span.file, line: line(rule.span) },
            because: None,
            layer: None,
            modality: Modality::May,
            actions: FixedBitSet::with_capacity(self.schema.actions.len()),
            everything: false,
            who: Who::default(),
            what: What::default(),
            condition: None,
            from: None,
            until: None,
            off: rule.off.is_some(),
        };
        let (mut layer, mut from, mut until) = (None, None, None);
        let (said, mut listed, mut who) = (out.len(), Vec::new(), rule.name.span);
        for clause in &rule.clauses {
            match &clause.body {
                ClauseBody::Because(text) => statement.because = Some(text.text.clone()),
                ClauseBody::Layer(name) => layer = Some(name),
                ClauseBody::Who(clause) => {
                    statement.who = self.who(clause, out);
                    who = clause.span;
                }
                ClauseBody::May(modality, items) => {
                    statement.modality = *modality;
                    statement.everything = matches!(items, Items::Everything(_));
                    statement.actions = self.actions(items, out);
                    listed = names(items);
                }
                ClauseBody::What(what) => statement.what = self.what(what, out),
                ClauseBody::While(expr) => statement.condition = self.condition(expr, out),
                ClauseBody::From(date) => from = Some(date),
                ClauseBody::Until(date) => until = Some(date),
            }
        }
        statement.from = from.and_then(|date| day(date, out));
        statement.until = until.and_then(|date| day(date, out));
        if let (Some(first), Some(last), Some(written)) = (statement.from, statement.until, until)
            && last < first
        {
            let message = format!("rule `{}` never applies: it ends on {last}, before it begins", rule.name.text);
            out.push(Diagnostic::at(&codes::NO_EFFECT, written.span, message));
        }
        self.tell_lost(&statement, &mut out[said..]);
        self.tell_lost_roles(&statement, &listed, out);
        self.tell_lost_groups(&statement, out, who);
        if let Some(name) = layer {
            statement.layer = self.layer(name, out);
            if !matches!(statement.modality, Modality::May | Modality::MayNot) {
                let message = format!("a layer has no effect on `{}`", statement.modality.words());
                out.push(Diagnostic::at(&codes::NO_EFFECT, name.span, message));
            }
            if self.layers.is_empty() && name.text == "rest" {
                let message = "the estate declares no layers";
                out.push(Diagnostic::at(&codes::UNKNOWN_LAYER, name.span, message));
            }
        }
        let weighed = matches!(statement.modality, Modality::May | Modality::MayNot);
        if !self.layers.is_empty()
            && weighed
            && let Some(condition) = &statement.what.condition
        {
            let message = "in an estate with layers, `what` cannot depend on the user or the session: ask that in `who` or `while`";
            forbid(condition, |m| m.user || m.session, message, out);
        }
        statement
    }

    /// Types a what-clause.
    pub fn what(&self, what: &tree::What, out: &mut Diagnostics) -> What {
        What {
            kinds: what.kinds.as_ref().map(|names| self.kinds(names, out)),
            places: what.places.as_ref().map(|(reach, places)| self.places(*reach, places, out)),
            condition: what.condition.as_ref().and_then(|c| self.condition(c, out)),
        }
    }
}

/// The day that is written. The parser saw its shape; the calendar is asked here.
pub(crate) fn day(written: &DateText, out: &mut Diagnostics) -> Option<Date> {
    let date = read_date(&written.text);
    if date.is_none() {
        out.push(bad_date(&written.text, written.span));
    }
    date
}

//! From tokens to a statement: SELECT and what stands around it. Expressions are next door.

use std::borrow::Cow;

use super::token::{Placed, Token, tokens};
use super::tree::{
    Bound, Compound, Expr, Frame, FrameUnit, FromTerm, Item, Join, Name, OrderTerm, Query, Select,
    Source, Window, WithTable,
};
use super::{Location, Refusal};

/// How deep parentheses and CASE may nest.
const DEEPEST: usize = 40;
/// How many operators a statement may have: a row of them nests as deep as it is long.
const MOST_OPERATORS: usize = 500;

/// Words that are no names without quotes.
const RESERVED: &str = "\
    ADD ALL ALTER AND AS AUTOINCREMENT BETWEEN CASE CHECK COLLATE COMMIT CONSTRAINT CREATE DEFAULT \
    DEFERRABLE DELETE DISTINCT DROP ELSE ESCAPE EXCEPT EXISTS FOREIGN FROM GROUP HAVING IN INDEX INSERT \
    INTERSECT INTO IS ISNULL JOIN LIMIT NOT NOTHING NOTNULL NULL ON OR ORDER PRIMARY REFERENCES \
    RETURNING SELECT SET TABLE THEN TO TRANSACTION UNION UNIQUE UPDATE USING VALUES WHEN WHERE";
/// Words that begin a join, and so are no names that stand for a table without AS.
const OF_JOINS: &str = "CROSS FULL INDEXED INNER LEFT NATURAL OUTER RIGHT";

pub(super) type Parsing<T> = Result<T, Refusal>;

pub(super) struct Parser<'s> {
    sql: &'s str,
    tokens: Vec<Placed<'s>>,
    /// The token that comes next.
    next: usize,
    depth: usize,
    operators: usize,
}

impl<'s> Parser<'s> {
    pub(super) fn new(sql: &'s str) -> Parsing<Self> {
        Ok(Self { sql, tokens: tokens(sql)?, next: 0, depth: 0, operators: 0 })
    }

    /// The names of the statement's parameters, in their order.
    pub(super) fn params(&self) -> Vec<String> {
        let names = self.tokens.iter().filter_map(|placed| match placed.token {
            Token::Param(name) => name.strip_prefix(':').map(str::to_owned),
            _ => None,
        });
        names.collect()
    }

    pub(super) fn peek(&self) -> &Token<'s> {
        &self.tokens[self.next].token
    }

    /// The token behind the one that comes next.
    pub(super) fn second(&self) -> &Token<'s> {
        &self.tokens[(self.next + 1).min(self.tokens.len() - 1)].token
    }

    /// Where the next token stands.
    pub(super) fn at(&self) -> Location {
        self.tokens[self.next].at
    }

    /// Takes the next token.
    pub(super) fn advance(&mut self) -> Token<'s> {
        let token = self.peek().clone();
        self.next = (self.next + 1).min(self.tokens.len() - 1);
        token
    }

    pub(super) fn is_word(&self, word: &str) -> bool {
        is_word(self.peek(), word)
    }

    /// Takes a word if it comes next.
    pub(super) fn takes(&mut self, word: &str) -> bool {
        let takes = self.is_word(word);
        self.next += usize::from(takes);
        takes
    }

    /// Takes two words if they come next.
    pub(super) fn takes_both(&mut self, first: &str, second: &str) -> bool {
        let takes = self.is_word(first) && is_word(self.second(), second);
        self.next += 2 * usize::from(takes);
        takes
    }

    pub(super) fn is_symbol(&self, symbol: &str) -> bool {
        matches!(self.peek(), Token::Symbol(next) if *next == symbol)
    }

    /// Takes a symbol if it comes next.
    pub(super) fn takes_symbol(&mut self, symbol: &str) -> bool {
        let takes = self.is_symbol(symbol);
        self.next += usize::from(takes);
        takes
    }

    pub(super) fn word(&mut self, word: &str) -> Parsing<()> {
        if self.takes(word) { Ok(()) } else { self.expected(word) }
    }

    /// Takes an opening bracket.
    pub(super) fn open(&mut self) -> Parsing<()> {
        let at = self.at();
        if !self.takes_symbol("(") {
            return self.expected("(");
        }
        self.deeper(at)
    }

    /// Takes a closing one.
    pub(super) fn close(&mut self) -> Parsing<()> {
        self.depth -= 1;
        if self.takes_symbol(")") { Ok(()) } else { self.expected(")") }
    }

    /// What follows nests deeper, up to [`Self::less_deep`] or [`Self::close`].
    pub(super) fn deeper(&mut self, at: Location) -> Parsing<()> {
        self.depth += 1;
        if self.depth > DEEPEST {
            let message = format!("this statement nests deeper than {DEEPEST} levels");
            return Err(Refusal::new(at, message, "write it flatter"));
        }
        Ok(())
    }

    pub(super) fn less_deep(&mut self) {
        self.depth -= 1;
    }

    /// Counts an operator.
    pub(super) fn count_operator(&mut self, at: Location) -> Parsing<()> {
        self.operators += 1;
        if self.operators > MOST_OPERATORS {
            let message = format!("this statement has more than {MOST_OPERATORS} operators");
            return Err(Refusal::new(at, message, "divide it, or use IN with a list"));
        }
        Ok(())
    }

    /// Refuses the next token.
    pub(super) fn expected<T>(&self, what: &str) -> Parsing<T> {
        let message = match self.found() {
            None => format!("the statement ends here, expected {what}"),
            Some(found) => format!("found {found}, expected {what}"),
        };
        Err(Refusal::new(self.at(), message, ""))
    }

    /// The next token as it is written; `None` at the end.
    fn found(&self) -> Option<&'s str> {
        let next = &self.tokens[self.next];
        (next.token != Token::End).then(|| &self.sql[next.start..next.end])
    }

    /// The text from a token on up to the next one.
    fn text_since(&self, first: usize) -> String {
        let last = self.next.saturating_sub(1).max(first);
        self.sql[self.tokens[first].start..self.tokens[last].end].to_owned()
    }

    pub(super) fn comma_list<T>(
        &mut self,
        mut element: impl FnMut(&mut Self) -> Parsing<T>,
    ) -> Parsing<Vec<T>> {
        let mut list = vec![element(self)?];
        while self.takes_symbol(",") {
            list.push(element(self)?);
        }
        Ok(list)
    }

    /// Whether a name comes next.
    pub(super) fn is_name(&self) -> bool {
        is_name(self.peek())
    }

    /// Whether a word comes next that an expression begins with only in a form of its own; elsewhere
    /// it is a name.
    pub(super) fn begins_own_form(&self) -> bool {
        self.is_word("CAST") || self.is_word("RAISE")
    }

    /// Whether a word comes next that may begin a join.
    pub(super) fn begins_join(&self) -> bool {
        matches!(self.peek(), Token::Word(word) if is_one_of(word, OF_JOINS))
    }

    /// Takes a name.
    pub(super) fn name(&mut self, what: &str) -> Parsing<Name> {
        if !self.is_name() {
            return match self.peek() {
                Token::Word(word) => {
                    let message = format!("found the keyword {word}, expected {what}");
                    let help = format!("if it is a name, put it in double quotes: \"{word}\"");
                    Err(Refusal::new(self.at(), message, help))
                }
                _ => self.expected(what),
            };
        }
        Ok(self.take_name())
    }

    /// Takes the next token as a name, whatever it is.
    fn take_name(&mut self) -> Name {
        let at = self.at();
        let (text, quote): (Cow<'_, str>, _) = match self.advance() {
            Token::Word(word) => (word.into(), None),
            Token::Quoted(text, quote) => (text, Some(quote)),
            Token::Text(text) => (text, Some('\'')),
            _ => ("".into(), None),
        };
        Name { text: text.into_owned(), quote, at }
    }

    /// The whole statement.
    pub(super) fn statement(&mut self) -> Parsing<Query> {
        match self.found() {
            None => {
                let message = "this is empty, expected a SELECT statement";
                return Err(Refusal::new(Location::START, message, ""));
            }
            Some(found) if !self.begins_query() => {
                let message = format!("found {found}, expected a SELECT statement");
                let help = "a query only reads; write through a commit";
                let help = if matches!(self.peek(), Token::Word(_)) { help } else { "" };
                return Err(Refusal::new(self.at(), message, help));
            }
            Some(_) => {}
        }
        let query = self.query()?;
        while self.takes_symbol(";") {}
        match self.found() {
            None => Ok(query),
            Some(found) => {
                let message = format!("found {found} behind the statement, expected its end");
                Err(Refusal::new(self.at(), message, ""))
            }
        }
    }

    pub(super) fn begins_query(&self) -> bool {
        ["SELECT", "WITH", "VALUES"].iter().any(|word| self.is_word(word))
    }

    /// A query in parentheses.
    pub(super) fn query_inside(&mut self) -> Parsing<Box<Query>> {
        self.open()?;
        let query = self.query()?;
        self.close()?;
        Ok(Box::new(query))
    }

    pub(super) fn query(&mut self) -> Parsing<Query> {
        let at = self.at();
        let mut with = Vec::new();
        if self.takes("WITH") {
            self.takes("RECURSIVE");
            with = self.comma_list(Self::with_table)?;
        }
        let mut selects = vec![self.select(None)?];
        while let Some(compound) = self.compound() {
            selects.push(self.select(Some(compound))?);
        }
        let (mut order, mut limit, mut offset) = (Vec::new(), None, None);
        // Nothing follows VALUES.
        let is_ordered = selects.last().is_none_or(|select| !select.is_values);
        if is_ordered && self.takes_both("ORDER", "BY") {
            order = self.order_terms()?;
        }
        if is_ordered && self.takes("LIMIT") {
            limit = Some(self.expr()?);
            if self.takes("OFFSET") {
                offset = Some(self.expr()?);
            } else if self.takes_symbol(",") {
                offset = limit.replace(self.expr()?);
            }
        }
        Ok(Query { at, with, selects, order, limit, offset })
    }

    fn with_table(&mut self) -> Parsing<WithTable> {
        let name = self.name("the name of a query")?;
        let mut columns = Vec::new();
        if self.is_symbol("(") {
            self.open()?;
            columns = self.comma_list(|parser| parser.name("the name of a column"))?;
            self.close()?;
        }
        self.word("AS")?;
        // Whether it is kept is not for the statement to say.
        if self.is_word("NOT") || self.is_word("MATERIALIZED") {
            self.takes("NOT");
            self.word("MATERIALIZED")?;
        }
        let query = *self.query_inside()?;
        Ok(WithTable { name, columns, query })
    }

    fn compound(&mut self) -> Option<Compound> {
        if self.takes_both("UNION", "ALL") {
            return Some(Compound::UnionAll);
        }
        let words = [
            ("UNION", Compound::Union),
            ("EXCEPT", Compound::Except),
            ("INTERSECT", Compound::Intersect),
        ];
        words.into_iter().find(|(word, _)| self.takes(word)).map(|(_, compound)| compound)
    }

    fn select(&mut self, compound: Option<Compound>) -> Parsing<Select> {
        let mut select = Select {
            at: self.at(),
            compound,
            is_values: false,
            is_distinct: false,
            items: Vec::new(),
            from: Vec::new(),
            condition: None,
            keys: Vec::new(),
            having: None,
            windows: Vec::new(),
        };
        if self.takes("VALUES") {
            select.is_values = true;
            self.comma_list(|parser| {
                parser.open()?;
                parser.comma_list(Self::expr)?;
                parser.close()
            })?;
            return Ok(select);
        }
        self.word("SELECT")?;
        select.is_distinct = self.takes("DISTINCT");
        if !select.is_distinct {
            self.takes("ALL");
        }
        select.items = self.comma_list(Self::item)?;
        if self.takes("FROM") {
            select.from = self.from()?;
        }
        if self.takes("WHERE") {
            select.condition = Some(self.expr()?);
        }
        if self.takes_both("GROUP", "BY") {
            select.keys = self.comma_list(Self::expr)?;
        }
        if self.takes("HAVING") {
            select.having = Some(self.expr()?);
        }
        if self.begins_windows() {
            self.advance();
            select.windows = self.comma_list(|parser| {
                let name = parser.name("the name of a window")?;
                parser.word("AS")?;
                Ok((name, parser.window()?))
            })?;
        }
        Ok(select)
    }

    /// Whether named windows follow: the word is a name like others elsewhere.
    fn begins_windows(&self) -> bool {
        let third = self.tokens.get(self.next + 2).map(|placed| &placed.token);
        self.is_word("WINDOW")
            && is_window_name(self.second())
            && third.is_some_and(|token| is_word(token, "AS"))
    }

    fn item(&mut self) -> Parsing<Item> {
        let (first, at) = (self.next, self.at());
        if self.takes_symbol("*") {
            return Ok(Item::All(at));
        }
        let is = |place: usize, symbol: &str| {
            let token = self.tokens.get(self.next + place).map(|placed| &placed.token);
            matches!(token, Some(Token::Symbol(next)) if *next == symbol)
        };
        if self.is_name() && !self.begins_own_form() && is(1, ".") && is(2, "*") {
            let name = self.take_name();
            self.next += 2;
            return Ok(Item::AllOf(name));
        }
        let expr = self.expr()?;
        let text = self.text_since(first);
        Ok(Item::Expr { expr, text, alias: self.alias()? })
    }

    /// The name that AS gives, which may be left out.
    fn alias(&mut self) -> Parsing<Option<Name>> {
        let is_text = matches!(self.second(), Token::Text(_));
        if self.takes("AS") {
            if is_text {
                return Ok(Some(self.take_name()));
            }
            return self.name("a name").map(Some);
        }
        let is_text = matches!(self.peek(), Token::Text(_));
        let follows = is_text || self.is_name() && !self.begins_join() && !self.begins_windows();
        Ok(follows.then(|| self.take_name()))
    }

    fn from(&mut self) -> Parsing<Vec<FromTerm>> {
        let mut terms = vec![self.source_term(Join::Inner, false)?];
        loop {
            if self.takes_symbol(",") {
                terms.push(self.source_term(Join::Inner, false)?);
            } else if self.is_word("JOIN") || self.begins_join() {
                let (join, is_natural) = self.join()?;
                terms.push(self.source_term(join, is_natural)?);
            } else {
                return Ok(terms);
            }
        }
    }

    /// The words of a join, and whether it is a natural one. SQLite takes up to three before JOIN, in
    /// any order.
    fn join(&mut self) -> Parsing<(Join, bool)> {
        let at = self.at();
        let [mut natural, mut inner, mut outer, mut left, mut right] = [false; 5];
        for _ in 0..3 {
            match self.peek() {
                _ if self.takes("NATURAL") => natural = true,
                _ if self.takes("INNER") || self.takes("CROSS") => inner = true,
                _ if self.takes("OUTER") => outer = true,
                _ if self.takes("LEFT") => left = true,
                _ if self.takes("RIGHT") => right = true,
                _ if self.takes("FULL") => (left, right) = (true, true),
                _ => break,
            }
        }
        self.word("JOIN")?;
        let join = match (left, right) {
            (false, false) if outer => {
                return Err(Refusal::new(at, "OUTER needs LEFT, RIGHT or FULL before it", ""));
            }
            (false, false) => return Ok((Join::Inner, natural)),
            (true, false) => Join::Left,
            (false, true) => Join::Right,
            (true, true) => Join::Full,
        };
        match inner {
            true => Err(Refusal::new(at, "a join is either inner or outer", "")),
            false => Ok((join, natural)),
        }
    }

    fn source_term(&mut self, join: Join, is_natural: bool) -> Parsing<FromTerm> {
        let at = self.at();
        let source = if self.is_symbol("(") {
            self.open()?;
            let source = if self.begins_query() {
                Source::Query(Box::new(self.query()?))
            } else {
                self.from()?;
                Source::Joined
            };
            self.close()?;
            source
        } else {
            let name = self.name("a table, or a SELECT in parentheses")?;
            if self.is_symbol("(") {
                self.open()?;
                let mut arguments = Vec::new();
                if !self.is_symbol(")") {
                    arguments = self.comma_list(Self::expr)?;
                }
                self.close()?;
                Source::Function { name, arguments }
            } else if self.takes_symbol(".") {
                Source::Table { database: Some(name), name: self.name("the name of a table")? }
            } else {
                Source::Table { database: None, name }
            }
        };
        let alias = self.alias()?;
        let hint = self.at();
        if self.takes("INDEXED") || self.takes_both("NOT", "INDEXED") {
            let message = "INDEXED is not supported";
            return Err(Refusal::new(hint, message, "name the table alone"));
        }
        let on = if self.takes("ON") { Some(self.expr()?) } else { None };
        let mut using = Vec::new();
        if on.is_none() && self.takes("USING") {
            self.open()?;
            using = self.comma_list(|parser| parser.name("the name of a column"))?;
            self.close()?;
        }
        Ok(FromTerm { join, is_natural, at, source, alias, on, using })
    }

    pub(super) fn order_terms(&mut self) -> Parsing<Vec<OrderTerm>> {
        self.comma_list(|parser| {
            let expr = parser.expr()?;
            let descending = parser.takes("DESC");
            if !descending {
                parser.takes("ASC");
            }
            let mut nulls_first = None;
            if parser.takes("NULLS") {
                nulls_first = Some(parser.takes("FIRST"));
                if nulls_first == Some(false) {
                    parser.word("LAST")?;
                }
            }
            Ok(OrderTerm { expr, descending, nulls_first })
        })
    }

    /// A window in parentheses.
    pub(super) fn window(&mut self) -> Parsing<Window> {
        let at = self.at();
        self.open()?;
        let begins = ["PARTITION", "ORDER", "ROWS", "RANGE", "GROUPS"];
        let has_base = self.is_name() && !begins.iter().any(|word| self.is_word(word));
        let base = has_base.then(|| self.take_name());
        let (mut partition, mut order) = (Vec::new(), Vec::new());
        if self.takes_both("PARTITION", "BY") {
            partition = self.comma_list(Self::expr)?;
        }
        if self.takes_both("ORDER", "BY") {
            order = self.order_terms()?;
        }
        let frame = self.frame()?;
        self.close()?;
        Ok(Window { at, base, partition, order, frame })
    }

    fn frame(&mut self) -> Parsing<Option<Frame>> {
        let at = self.at();
        let units =
            [("ROWS", FrameUnit::Rows), ("RANGE", FrameUnit::Range), ("GROUPS", FrameUnit::Groups)];
        let Some((_, unit)) = units.into_iter().find(|(word, _)| self.takes(word)) else {
            return Ok(None);
        };
        let (start, end) = match self.takes("BETWEEN") {
            true => {
                let start = self.bound()?;
                self.word("AND")?;
                (start, self.bound()?)
            }
            false => (self.bound()?, Bound::CurrentRow),
        };
        let at_exclude = self.at();
        let mut excludes = None;
        if self.takes("EXCLUDE") && !self.takes_both("NO", "OTHERS") {
            let is_known =
                self.takes_both("CURRENT", "ROW") || self.takes("GROUP") || self.takes("TIES");
            if !is_known {
                return self.expected("NO OTHERS, CURRENT ROW, GROUP or TIES");
            }
            excludes = Some(at_exclude);
        }
        Ok(Some(Frame { at, unit, start, end, excludes }))
    }

    /// Where a window's frame begins or ends.
    fn bound(&mut self) -> Parsing<Bound> {
        if self.takes_both("CURRENT", "ROW") {
            return Ok(Bound::CurrentRow);
        }
        let number = match self.takes("UNBOUNDED") {
            true => None,
            false => Some(self.expr()?),
        };
        if self.takes("PRECEDING") {
            return Ok(Bound::Preceding(number));
        }
        if self.takes("FOLLOWING") {
            return Ok(Bound::Following(number));
        }
        self.expected("PRECEDING or FOLLOWING")
    }

    pub(super) fn expr(&mut self) -> Parsing<Expr> {
        self.expr_from(0)
    }
}

pub(super) fn is_word(token: &Token<'_>, word: &str) -> bool {
    matches!(token, Token::Word(next) if next.eq_ignore_ascii_case(word))
}

/// Whether a token is the name of a window; SQLite does not take `filter` for one.
pub(super) fn is_window_name(token: &Token<'_>) -> bool {
    is_name(token) && !is_word(token, "FILTER")
}

/// Whether a token is a name.
fn is_name(token: &Token<'_>) -> bool {
    match token {
        Token::Word(word) => !is_reserved(word),
        Token::Quoted(..) => true,
        _ => false,
    }
}

fn is_one_of(word: &str, known: &str) -> bool {
    known.split(' ').any(|known| known.eq_ignore_ascii_case(word))
}

fn is_reserved(word: &str) -> bool {
    is_one_of(word, RESERVED)
}

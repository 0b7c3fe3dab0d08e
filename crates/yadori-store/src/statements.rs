//! Several statements in one message to the server, so that it is waited for once.
//!
//! A prepared statement is a message of its own, and each message costs a way there and back. These go as text. Values are
//! written as digits or in hexadecimal, so that none of them can be taken for anything else.

use data_encoding::HEXLOWER;
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySqlConnection};
use std::fmt::Write;

/// Statements, one after the other.
#[derive(Default)]
pub(crate) struct Statements {
    text: String,
    /// Whether the next value is the first of its row.
    is_first: bool,
}

impl Statements {
    /// Adds one that needs no values, or the words before them.
    pub(crate) fn add(&mut self, statement: &'static str) -> &mut Self {
        if !self.text.is_empty() {
            self.text.push(';');
        }
        self.text.push_str(statement);
        self
    }

    /// Begins a row of values, after that before it if there is one.
    pub(crate) fn row(&mut self) -> &mut Self {
        self.text.push_str(if self.text.ends_with(')') { ",(" } else { "(" });
        self.is_first = true;
        self
    }

    /// Adds a value to the row.
    pub(crate) fn value(&mut self, value: impl Literal) -> &mut Self {
        self.separate();
        value.write_to(&mut self.text);
        self
    }

    /// Adds an expression to the row.
    pub(crate) fn expression(&mut self, expression: &'static str) -> &mut Self {
        self.separate();
        self.text.push_str(expression);
        self
    }

    /// Ends the row.
    pub(crate) fn end_row(&mut self) -> &mut Self {
        self.text.push(')');
        self
    }

    /// Adds a value that stands in no row.
    pub(crate) fn alone(&mut self, value: impl Literal) -> &mut Self {
        value.write_to(&mut self.text);
        self
    }

    /// Adds more words to a statement: after rows, or between values.
    pub(crate) fn words(&mut self, words: &'static str) -> &mut Self {
        self.text.push_str(words);
        self
    }

    /// Adds all of these.
    pub(crate) fn append(&mut self, more: Self) -> &mut Self {
        if !self.is_empty() && !more.is_empty() {
            self.text.push(';');
        }
        self.text.push_str(&more.text);
        self
    }

    /// Whether there are none yet.
    pub(crate) fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// How long the text is by now, in bytes.
    pub(crate) fn len(&self) -> usize {
        self.text.len()
    }

    /// The text.
    pub(crate) fn into_text(self) -> String {
        self.text
    }

    /// Has all of them done; gives the rows of those that have any.
    pub(crate) async fn fetch_all(self, connection: &mut MySqlConnection) -> Result<Vec<MySqlRow>, sqlx::Error> {
        sqlx::raw_sql(AssertSqlSafe(self.text)).fetch_all(connection).await
    }

    /// Has all of them done, if there are any.
    pub(crate) async fn execute(self, connection: &mut MySqlConnection) -> Result<(), sqlx::Error> {
        if self.text.is_empty() {
            return Ok(());
        }
        sqlx::raw_sql(AssertSqlSafe(self.text)).execute(connection).await.map(|_| ())
    }

    fn separate(&mut self) {
        if !std::mem::take(&mut self.is_first) {
            self.text.push(',');
        }
    }
}

/// What can be written as a value.
pub(crate) trait Literal {
    /// Writes it as MariaDB reads it.
    fn write_to(&self, text: &mut String);

    /// Whether it is what a column holds by default: NULL where it may, and otherwise 0 or FALSE.
    fn is_default(&self) -> bool {
        false
    }
}

impl<T: Literal + ?Sized> Literal for &T {
    fn write_to(&self, text: &mut String) {
        (**self).write_to(text);
    }

    fn is_default(&self) -> bool {
        (**self).is_default()
    }
}

macro_rules! numbers {
    ($($number:ty),*) => {$(
        impl Literal for $number {
            fn write_to(&self, text: &mut String) {
                let _ = write!(text, "{self}");
            }

            fn is_default(&self) -> bool {
                *self == 0
            }
        }
    )*};
}

numbers!(u8, u32, u64);

impl Literal for bool {
    fn write_to(&self, text: &mut String) {
        text.push_str(if *self { "TRUE" } else { "FALSE" });
    }

    fn is_default(&self) -> bool {
        !self
    }
}

impl Literal for [u8] {
    fn write_to(&self, text: &mut String) {
        text.push_str("x'");
        HEXLOWER.encode_append(self, text);
        text.push('\'');
    }
}

impl Literal for Vec<u8> {
    fn write_to(&self, text: &mut String) {
        self.as_slice().write_to(text);
    }
}

impl Literal for str {
    fn write_to(&self, text: &mut String) {
        text.push_str("_utf8mb4 ");
        self.as_bytes().write_to(text);
    }
}

impl Literal for String {
    fn write_to(&self, text: &mut String) {
        self.as_str().write_to(text);
    }
}

impl<T: Literal> Literal for Option<T> {
    fn write_to(&self, text: &mut String) {
        match self {
            Some(value) => value.write_to(text),
            None => text.push_str("NULL"),
        }
    }

    fn is_default(&self) -> bool {
        self.is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_digits_or_hexadecimal() {
        let mut statements = Statements::default();
        statements.add("BEGIN").add("INSERT INTO t VALUES ").row();
        statements.value(7u8).value("Zoë's '); DROP").value(Some(&b"\0\xff"[..])).value(None::<u64>).value(true);
        statements.expression("LAST_INSERT_ID()").end_row().row().value(8u8).end_row().add("COMMIT");
        assert_eq!(
            statements.into_text(),
            "BEGIN;INSERT INTO t VALUES (7,_utf8mb4 x'5a6fc3ab27732027293b2044524f50',x'00ff',NULL,TRUE,LAST_INSERT_ID()),(8);COMMIT"
        );
    }
}

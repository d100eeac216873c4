//! What a fleet's state asks of a database: transactions, statements and rows. Statements are those that both kinds understand, with
//! parameters `$1`, `$2`, …

/// A value of a column, or of a parameter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Value {
    Null,
    Int(i64),
    Text(String),
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Self::Int(number)
    }
}

impl From<u64> for Value {
    fn from(number: u64) -> Self {
        Self::Int(i64::try_from(number).unwrap_or(i64::MAX))
    }
}

impl From<usize> for Value {
    fn from(number: usize) -> Self {
        Self::from(number as u64)
    }
}

impl From<bool> for Value {
    fn from(flag: bool) -> Self {
        Self::Int(flag.into())
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        // The one character that a text of PostgreSQL cannot hold.
        Self::Text(text.replace('\0', "\u{fffd}"))
    }
}

impl From<&String> for Value {
    fn from(text: &String) -> Self {
        Self::from(text.as_str())
    }
}

impl<T: Into<Self>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Into::into)
    }
}

/// What a database says when it does not do what it is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Trouble {
    /// What it says.
    pub(super) what: String,
    /// Whether another try may work: it is away, or busy.
    pub(super) again: bool,
}

pub(super) type Result<T> = std::result::Result<T, Trouble>;

/// A row of a result.
#[derive(Debug)]
pub(super) struct Row(pub(super) Vec<Value>);

impl Row {
    /// The text in the column at `place`; none for one that is null.
    pub(super) fn text(&self, place: usize) -> Option<String> {
        match self.0.get(place) {
            Some(Value::Text(text)) => Some(text.clone()),
            _ => None,
        }
    }

    /// The number in the column at `place`; none for one that is null.
    pub(super) fn int(&self, place: usize) -> Option<i64> {
        match self.0.get(place) {
            Some(Value::Int(number)) => Some(*number),
            _ => None,
        }
    }

    /// As [`Row::int`], for what is never negative.
    pub(super) fn count(&self, place: usize) -> Option<u64> {
        self.int(place).map(|number| u64::try_from(number).unwrap_or(0))
    }
}

/// A database in the middle of a transaction.
pub(super) trait Session {
    /// Changes rows; how many.
    fn execute(&mut self, statement: &str, values: &[Value]) -> Result<u64>;

    /// Asks for rows.
    fn query(&mut self, statement: &str, values: &[Value]) -> Result<Vec<Row>>;

    /// Milliseconds since the beginning of 1970, by the clock that all workers share.
    fn now(&mut self) -> Result<i64>;
}

/// A database.
pub(super) trait Database: Send {
    /// Does `work` as one: all of it, or nothing. Nobody else who decides something is in the middle of that meanwhile.
    fn transact(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()>;

    /// Does `work` as one while others decide: it reads, or changes rows that say themselves whether they may still be changed.
    fn look(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()>;

    /// Does `work`, which only reads, while others decide and change.
    fn read(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        self.look(work)
    }
}

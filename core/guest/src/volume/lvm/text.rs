//! The language of LVM2's metadata: sections in braces, and values that are numbers, strings or lists.

/// Sections inside one another.
const MAX_DEPTH: usize = 16;

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Value {
    Number(u64),
    Text(String),
    List(Vec<Value>),
}

impl Value {
    pub(super) fn as_string(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    pub(super) fn as_number(&self) -> Option<u64> {
        match self {
            Self::Number(number) => Some(*number),
            _ => None,
        }
    }
}

/// What stands between two braces.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Section {
    pub(super) values: Vec<(String, Value)>,
    pub(super) sections: Vec<(String, Section)>,
}

impl Section {
    fn value(&self, key: &str) -> Option<&Value> {
        self.values.iter().find(|(name, _)| name == key).map(|(_, value)| value)
    }

    pub(super) fn string(&self, key: &str) -> Option<&str> {
        self.value(key)?.as_string()
    }

    pub(super) fn number(&self, key: &str) -> Option<u64> {
        self.value(key)?.as_number()
    }

    pub(super) fn list(&self, key: &str) -> Option<&[Value]> {
        match self.value(key)? {
            Value::List(values) => Some(values),
            _ => None,
        }
    }

    pub(super) fn strings(&self, key: &str) -> impl Iterator<Item = &str> {
        self.list(key).unwrap_or_default().iter().filter_map(Value::as_string)
    }

    pub(super) fn section(&self, name: &str) -> Option<&Section> {
        self.sections.iter().find(|(found, _)| found == name).map(|(_, section)| section)
    }
}

/// A word, a sign, a string or a number.
#[derive(Debug, Clone, PartialEq)]
enum Token {
    Word(String),
    Text(String),
    Number(u64),
    Sign(char),
}

/// Bytes of memory that reading `text` takes at the most.
pub(super) fn memory(text: &str) -> u64 {
    // A token, its place in a list that grows by doubling, and the value that is made of it.
    const TOKEN: u64 = 200;
    let bytes = text.as_bytes();
    let is_sign = |byte: &u8| b"{}[]=,\"#".contains(byte);
    // A word begins behind a space or a sign.
    let words =
        bytes.windows(2).filter(|pair| matches!(pair, [a, b] if a.is_ascii_whitespace() && !b.is_ascii_whitespace()));
    let signs = bytes.iter().filter(|byte| is_sign(byte)).count();
    4 * text.len() as u64 + TOKEN * (words.count() + 2 * signs + 1) as u64
}

/// Reads metadata; `None` when it is none.
pub(super) fn parse(text: &str) -> Option<Section> {
    let tokens = tokens(text)?;
    let mut at = 0;
    let section = section(&tokens, &mut at, 0)?;
    (at == tokens.len()).then_some(section)
}

fn tokens(text: &str) -> Option<Vec<Token>> {
    let mut found = Vec::new();
    let mut chars = text.chars().peekable();
    while let Some(&c) = chars.peek() {
        if c.is_whitespace() {
            chars.next();
        } else if c == '#' {
            chars.by_ref().find(|c| *c == '\n');
        } else if c == '"' {
            chars.next();
            let mut word = String::new();
            loop {
                match chars.next()? {
                    '"' => break,
                    '\\' => word.push(chars.next()?),
                    other => word.push(other),
                }
            }
            found.push(Token::Text(word));
        } else if "{}[]=,".contains(c) {
            chars.next();
            found.push(Token::Sign(c));
        } else {
            let mut word = String::new();
            while let Some(c) = chars.next_if(|c| !c.is_whitespace() && !"{}[]=,\"#".contains(*c)) {
                word.push(c);
            }
            found.push(word.parse().map_or(Token::Word(word), Token::Number));
        }
    }
    Some(found)
}

#[expect(clippy::indexing_slicing, reason = "compared with the number of tokens just before")]
fn section(tokens: &[Token], at: &mut usize, depth: usize) -> Option<Section> {
    let mut found = Section::default();
    while *at < tokens.len() && tokens[*at] != Token::Sign('}') {
        let name = match tokens.get(*at)? {
            Token::Word(word) => word.clone(),
            // A name may be all digits.
            Token::Number(number) => number.to_string(),
            _ => return None,
        };
        *at += 2;
        match tokens.get(*at - 1)? {
            Token::Sign('{') if depth < MAX_DEPTH => {
                found.sections.push((name, section(tokens, at, depth + 1)?));
                (tokens.get(*at)? == &Token::Sign('}')).then_some(())?;
                *at += 1;
            }
            Token::Sign('=') => found.values.push((name, value(tokens, at)?)),
            _ => return None,
        }
    }
    Some(found)
}

fn value(tokens: &[Token], at: &mut usize) -> Option<Value> {
    *at += 1;
    Some(match tokens.get(*at - 1)? {
        Token::Number(number) => Value::Number(*number),
        Token::Text(text) | Token::Word(text) => Value::Text(text.clone()),
        Token::Sign('[') => {
            let mut values = Vec::new();
            loop {
                match tokens.get(*at)? {
                    Token::Sign(']') => break,
                    Token::Sign(',') => *at += 1,
                    // Lists hold no lists.
                    Token::Sign(_) => return None,
                    _ => values.push(value(tokens, at)?),
                }
            }
            *at += 1;
            Value::List(values)
        }
        Token::Sign(_) => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_understood_and_what_is_cut_short_is_not() {
        let text = "# made up\ntides {\nid = \"aB-c\"\nextent_size = 8192\nstatus = [\"READ\", \"VISIBLE\"]\nlogical_volumes {\nroot {\nstripes = [\n\"pv0\", 0\n]\n}\n}\n}\n";
        let file = parse(text).unwrap();
        let group = file.section("tides").unwrap();
        assert_eq!((group.string("id"), group.number("extent_size")), (Some("aB-c"), Some(8192)));
        assert_eq!(group.strings("status").collect::<Vec<_>>(), ["READ", "VISIBLE"]);
        let stripes =
            group.section("logical_volumes").and_then(|all| all.section("root")).unwrap().list("stripes").unwrap();
        assert_eq!(stripes, [Value::Text("pv0".into()), Value::Number(0)]);
        for end in 12..text.len() - 2 {
            assert_eq!(parse(&text[..end]), None, "{}", &text[..end]);
        }
        assert_eq!(parse(&"a{".repeat(100)), None);
    }
}

//! What is wrong with a TOML file, as a sentence: an unknown key or word gets the one that was probably meant.

/// The message of `error`, which came from reading `text`: its line, and the nearest word that is known.
#[expect(clippy::string_slice, reason = "a span of the parser, cut to the text")]
pub fn explain(text: &str, error: &toml::de::Error) -> String {
    let line = error.span().map(|span| text[..span.start.min(text.len())].matches('\n').count() + 1);
    let message = error.message().trim();
    let place = line.map_or(String::new(), |line| format!("line {line}: "));
    let unknown = [("unknown field `", "key"), ("unknown variant `", "word")];
    let Some((rest, what)) = unknown.iter().find_map(|(start, what)| Some((message.strip_prefix(start)?, what))) else {
        return format!("{place}{}", message.replace('`', "'"));
    };
    let mut words = rest.split('`').step_by(2);
    let found = words.next().unwrap_or_default();
    let known: Vec<&str> = words.filter(|word| !word.is_empty()).collect();
    let near = nearest(found, &known)
        .map_or_else(|| format!("there are {}", known.join(", ")), |near| format!("did you mean '{near}'?"));
    format!("{place}the {what} '{found}' is not known; {near}")
}

/// The word of `known` that is closest to `found`, if one is close.
pub fn nearest<'k>(found: &str, known: &[&'k str]) -> Option<&'k str> {
    let best = known.iter().map(|word| (strsim::jaro_winkler(found, word), *word)).max_by(|a, b| a.0.total_cmp(&b.0));
    best.filter(|(score, _)| *score > 0.8).map(|(_, word)| word)
}

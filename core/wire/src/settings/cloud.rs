//! What a site says of a cloud.

use serde::Deserialize;

use crate::link::Link;

/// How a cloud is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CloudKind {
    /// By the cloud protocol.
    Import,
    /// The image service of an open-source cloud, which is its own store.
    ImageService,
    /// By programs of the site.
    Commands,
}

impl CloudKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Import => "import",
            Self::ImageService => "image-service",
            Self::Commands => "commands",
        }
    }
}

/// What a site says of a cloud. How its server is reached, the table `link` says.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct CloudSettings {
    /// How it is spoken to.
    pub kind: CloudKind,
    /// Where it is, for `import` and `image-service`.
    pub at: Option<String>,
    /// The store from which it imports, and the folder there: `NAME:FOLDER`. An image service has none.
    pub store: Option<String>,
    /// Programs of the site, for `commands`.
    pub commands: Option<Commands>,
}

/// Programs with their arguments, in which words in braces stand for what is meant: `{name}`, `{object}`, `{key}`, `{import}`, `{image}`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Commands {
    /// Says what would be refused.
    pub check: Option<Vec<String>>,
    /// Begins an import.
    pub import: Vec<String>,
    /// Says how far one is.
    pub poll: Option<Vec<String>>,
    /// Makes an instance of an image.
    pub instance: Option<Vec<String>>,
    /// Says how an instance is.
    pub state: Option<Vec<String>>,
}

impl Commands {
    fn all(&self) -> impl Iterator<Item = &Vec<String>> {
        [self.check.as_ref(), Some(&self.import), self.poll.as_ref(), self.instance.as_ref(), self.state.as_ref()]
            .into_iter()
            .flatten()
    }
}

impl CloudSettings {
    /// Says what does not fit together, as the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        match (self.kind, self.store.as_deref()) {
            (CloudKind::ImageService, None) => {}
            (CloudKind::ImageService, Some(_)) => return Err("an image service is its own store".into()),
            (_, Some(store)) if store.contains(':') => {}
            _ => return Err("it needs 'store', NAME:FOLDER of a store in this file".into()),
        }
        match (self.kind, &self.at, &self.commands) {
            (CloudKind::Import | CloudKind::ImageService, Some(at), None) => {
                let link = Link::parse(at).map_err(|error| format!("'at' is no link that is read: {}", error.what))?;
                match link.scheme.is_http() && link.query.is_none() {
                    true => Ok(()),
                    false => Err("'at' is an http or https link without a query".into()),
                }
            }
            (CloudKind::Import | CloudKind::ImageService, None, None) => {
                Err("it needs 'at', the link where it is".into())
            }
            (CloudKind::Import | CloudKind::ImageService, _, Some(_)) => {
                Err("only a cloud of the kind \"commands\" has commands".into())
            }
            (CloudKind::Commands, Some(_), _) => Err("its commands know where it is: leave 'at' away".into()),
            (CloudKind::Commands, None, None) => Err("it needs the table 'commands' with an import".into()),
            (CloudKind::Commands, None, Some(commands)) if commands.all().any(Vec::is_empty) => {
                Err("a command names its program".into())
            }
            (CloudKind::Commands, None, Some(commands))
                if commands.all().filter_map(|line| line.first()).any(|program| program.contains('{')) =>
            {
                Err("a program has no placeholder: a machine's name would say what is run".into())
            }
            (CloudKind::Commands, None, Some(_)) => Ok(()),
        }
    }

    /// Where it is, as it is shown.
    pub fn place(&self) -> String {
        match (&self.at, &self.commands) {
            (Some(at), _) => crate::link::without_secrets(at),
            (None, Some(commands)) => commands.import.first().cloned().unwrap_or_default(),
            (None, None) => String::new(),
        }
    }
}

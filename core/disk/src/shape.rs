//! How a disk is stored: `FORMAT/LAYOUT`.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};

/// A disk image format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// The guest's bytes as they are.
    Raw,
    /// QEMU copy-on-write, version 2 and 3.
    Qcow2,
    /// Virtual machine disk.
    Vmdk,
    /// Virtual hard disk, version 2.
    Vhdx,
    /// Virtual hard disk, version 1.
    Vhd,
    /// Virtual disk image.
    Vdi,
}

/// How a format lays out the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Layout {
    /// Grows with its data.
    Thin,
    /// All space is present from the start.
    Full,
    /// Compressed, written in one direction, for transport.
    Stream,
    /// Pieces of 2 GiB.
    Split,
}

/// A format and a layout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Shape {
    /// The format.
    pub format: Format,
    /// The layout.
    pub layout: Layout,
}

/// Why a text is no shape, or a shape cannot be made.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum ShapeError {
    /// Not of the form `FORMAT/LAYOUT`, or an unknown word.
    #[error("{text:?} is not a shape: write FORMAT or FORMAT/LAYOUT, with one of {}", list(&Shape::all()))]
    Unknown {
        /// What was written.
        text: String,
    },
    /// The format has no such layout.
    #[error("there is no {shape}: {} knows {}", shape.format, list(&Shape::of(shape.format)))]
    NoSuchPair {
        /// The pair.
        shape: Shape,
    },
    /// No shape was given, and the name of the file tells none.
    #[error("the name {name:?} tells no format; the shapes are {}", list(&Shape::all()))]
    NotInName {
        /// The file's name.
        name: String,
    },
}

pub(crate) fn list(shapes: &[Shape]) -> String {
    shapes.iter().map(Shape::to_string).collect::<Vec<_>>().join(", ")
}

impl Format {
    /// Every format.
    pub const ALL: [Self; 6] = [Self::Raw, Self::Qcow2, Self::Vmdk, Self::Vhdx, Self::Vhd, Self::Vdi];

    /// The word for it in shapes.
    pub fn name(self) -> &'static str {
        match self {
            Self::Raw => "raw",
            Self::Qcow2 => "qcow2",
            Self::Vmdk => "vmdk",
            Self::Vhdx => "vhdx",
            Self::Vhd => "vhd",
            Self::Vdi => "vdi",
        }
    }

    /// Layouts of the format, the usual one first.
    pub fn layouts(self) -> &'static [Layout] {
        match self {
            Self::Vmdk => &[Layout::Thin, Layout::Full, Layout::Stream, Layout::Split],
            _ => &[Layout::Thin, Layout::Full],
        }
    }

    /// The format that a file name's ending stands for.
    pub fn from_extension(extension: &str) -> Option<Self> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "raw" | "img" | "dd" | "bin" => Self::Raw,
            "qcow2" | "qcow" => Self::Qcow2,
            "vmdk" => Self::Vmdk,
            "vhdx" => Self::Vhdx,
            "vhd" | "vpc" => Self::Vhd,
            "vdi" => Self::Vdi,
            _ => return None,
        })
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

impl FromStr for Format {
    type Err = ShapeError;

    fn from_str(text: &str) -> Result<Self, ShapeError> {
        Self::ALL
            .into_iter()
            .find(|format| format.name() == text)
            .ok_or_else(|| ShapeError::Unknown { text: text.into() })
    }
}

impl Layout {
    /// The word for it in shapes.
    pub fn name(self) -> &'static str {
        match self {
            Self::Thin => "thin",
            Self::Full => "full",
            Self::Stream => "stream",
            Self::Split => "split",
        }
    }
}

impl Shape {
    /// The pair of `format` and `layout`, whether or not it exists.
    pub const fn new(format: Format, layout: Layout) -> Self {
        Self { format, layout }
    }

    /// Every shape that exists.
    pub fn all() -> Vec<Self> {
        Format::ALL.into_iter().flat_map(Self::of).collect()
    }

    /// The shapes of one format.
    pub fn of(format: Format) -> Vec<Self> {
        format.layouts().iter().map(|&layout| Self { format, layout }).collect()
    }
}

impl fmt::Display for Shape {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}/{}", self.format.name(), self.layout.name()))
    }
}

impl FromStr for Shape {
    type Err = ShapeError;

    #[expect(clippy::indexing_slicing, reason = "every format has a layout")]
    fn from_str(text: &str) -> Result<Self, ShapeError> {
        let unknown = || ShapeError::Unknown { text: text.into() };
        let (format, layout) = match text.split_once('/') {
            None => (text, None),
            Some((format, layout)) => (format, Some(layout)),
        };
        let format: Format = format.parse().map_err(|_| unknown())?;
        let Some(layout) = layout else { return Ok(Self::new(format, format.layouts()[0])) };
        let layout = [Layout::Thin, Layout::Full, Layout::Stream, Layout::Split]
            .into_iter()
            .find(|l| l.name() == layout)
            .ok_or_else(unknown)?;
        let shape = Self::new(format, layout);
        if format.layouts().contains(&layout) { Ok(shape) } else { Err(ShapeError::NoSuchPair { shape }) }
    }
}

impl TryFrom<String> for Shape {
    type Error = ShapeError;

    fn try_from(text: String) -> Result<Self, ShapeError> {
        text.parse()
    }
}

impl From<Shape> for String {
    fn from(shape: Shape) -> Self {
        shape.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_format_alone_means_its_usual_layout_and_a_missing_pair_lists_the_others() {
        assert_eq!("vmdk".parse(), Ok(Shape::new(Format::Vmdk, Layout::Thin)));
        assert_eq!("vmdk/stream".parse(), Ok(Shape::new(Format::Vmdk, Layout::Stream)));
        let error = "vdi/stream".parse::<Shape>().unwrap_err().to_string();
        assert_eq!(error, "there is no vdi/stream: vdi knows vdi/thin, vdi/full");
        assert!("vmdk/".parse::<Shape>().is_err());
        for shape in Shape::all() {
            assert_eq!(shape.to_string().parse(), Ok(shape));
        }
    }
}

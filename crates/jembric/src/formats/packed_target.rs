//! Compresses the text that another format writes.

use super::{Target, packed::Packer};
use crate::Table;
use std::io::{self, Write};

/// Compresses the output of another format.
pub(crate) struct PackedWriter {
    pub(crate) text: Box<dyn Target>,
    pub(crate) packer: Packer,
}

impl Target for PackedWriter {
    fn write(&mut self, rows: &Table, to: &mut dyn Write) -> io::Result<()> {
        self.text.write(rows, &mut self.packer)?;
        to.write_all(&self.packer.ready())
    }

    fn finish(self: Box<Self>, to: &mut dyn Write) -> io::Result<()> {
        let PackedWriter { text, mut packer } = *self;
        text.finish(&mut packer)?;
        to.write_all(&packer.finish()?)
    }
}

//! PNGs of SVGs, with a font that is part of the program.

use jembric_core::{Error, Result};
use resvg::{tiny_skia, usvg};
use std::sync::{Arc, LazyLock};

static FONTS: LazyLock<Arc<usvg::fontdb::Database>> = LazyLock::new(|| {
    let mut fonts = usvg::fontdb::Database::new();
    let files = [dejavu::sans::regular(), dejavu::sans::bold()];
    files.into_iter().for_each(|file| fonts.load_font_data(file.to_vec()));
    fonts.set_sans_serif_family("DejaVu Sans");
    Arc::new(fonts)
});

pub(crate) fn rasterize(svg: &str) -> Result<Vec<u8>> {
    let failed = |why: String| Error::Sink(format!("the PNG could not be made: {why}").into());
    let options = usvg::Options {
        fontdb: FONTS.clone(),
        font_family: "DejaVu Sans".to_owned(),
        ..usvg::Options::default()
    };
    let tree = usvg::Tree::from_str(svg, &options).map_err(|error| failed(error.to_string()))?;
    let size = tree.size().to_int_size();
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height())
        .ok_or_else(|| failed("it is too large".to_owned()))?;
    resvg::render(&tree, tiny_skia::Transform::default(), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| failed(error.to_string()))
}

//! Pixels on their way into the server, and how large things are drawn.

use x11rb::connection::{Connection, RequestConnection};
use x11rb::protocol::xproto::{
    AtomEnum, ConnectionExt as _, CreateGCAux, ImageFormat, ImageOrder, Pixmap, Screen, Visualtype,
};

use super::connection::XConnection;
use lantern_backend::BackendError;
use lantern_backend::canvas::Canvas;

/// The pixels, in the server.
pub(super) fn picture(link: &XConnection, canvas: &Canvas) -> Result<Pixmap, BackendError> {
    let conn = &link.conn;
    let size = |pixels: usize| u16::try_from(pixels).unwrap_or(u16::MAX);
    let (width, depth) = (size(canvas.width), depth(link));
    let pixmap = conn.generate_id()?;
    conn.create_pixmap(depth, pixmap, link.root, width, size(canvas.height))?;
    let context = conn.generate_id()?;
    conn.create_gc(context, pixmap, &CreateGCAux::new())?;
    let rows = encoded(link, canvas);
    let row = rows.first().map_or(1, Vec::len);
    // Rows in pieces that fit into a request.
    let many = (conn.maximum_request_bytes().saturating_sub(64) / row).max(1);
    for (index, piece) in rows.chunks(many).enumerate() {
        let y = i16::try_from(index * many).unwrap_or(i16::MAX);
        let (count, format) = (size(piece.len()), ImageFormat::Z_PIXMAP);
        conn.put_image(format, pixmap, context, width, count, 0, y, 0, depth, &piece.concat())?;
    }
    conn.free_gc(context)?;
    Ok(pixmap)
}

fn screen(link: &XConnection) -> &Screen {
    let roots = &link.conn.setup().roots;
    roots.iter().find(|screen| screen.root == link.root).expect("the root is one of them")
}

/// How many bits the root window has for a pixel's colour.
pub(super) fn depth(link: &XConnection) -> u8 {
    screen(link).root_depth
}

/// Rows as the server wants them.
fn encoded(link: &XConnection, canvas: &Canvas) -> Vec<Vec<u8>> {
    let setup = link.conn.setup();
    let (screen, depth) = (screen(link), depth(link));
    let format = setup.pixmap_formats.iter().find(|format| format.depth == depth);
    let (bits, pad) = format.map_or((32, 32), |f| (f.bits_per_pixel, f.scanline_pad));
    let visuals = screen.allowed_depths.iter().flat_map(|depth| &depth.visuals);
    let visual = visuals.into_iter().find(|visual| visual.visual_id == screen.root_visual);
    let (bytes, pad) = (usize::from(bits / 8).clamp(1, 4), usize::from(pad / 8).max(1));
    let little = setup.image_byte_order == ImageOrder::LSB_FIRST;
    let row = |pixels: &[u32]| {
        let mut row = Vec::with_capacity(pixels.len() * bytes + pad);
        for pixel in pixels {
            let value = visual.map_or(*pixel, |visual| coloured(visual, *pixel));
            match little {
                true => row.extend_from_slice(&value.to_le_bytes()[..bytes]),
                false => row.extend_from_slice(&value.to_be_bytes()[4 - bytes..]),
            }
        }
        row.resize(row.len().next_multiple_of(pad), 0);
        row
    };
    canvas.pixels.chunks(canvas.width.max(1)).map(row).collect()
}

/// A colour as that sort of screen has it.
fn coloured(visual: &Visualtype, pixel: u32) -> u32 {
    let part = |mask: u32, value: u32| {
        let bits = mask.count_ones();
        let scaled = if bits >= 8 { value << (bits - 8).min(24) } else { value >> (8 - bits) };
        (scaled << mask.trailing_zeros().min(31)) & mask
    };
    part(visual.red_mask, pixel >> 16 & 255)
        | part(visual.green_mask, pixel >> 8 & 255)
        | part(visual.blue_mask, pixel & 255)
}

/// How much larger than on an ordinary screen things are drawn, as the person has set it for all
/// programs.
pub(super) fn scale_of(link: &XConnection) -> Result<f32, BackendError> {
    const ORDINARY: f32 = 96.0;
    let kinds = (AtomEnum::RESOURCE_MANAGER, AtomEnum::STRING);
    let cookie = link.conn.get_property(false, link.root, kinds.0, kinds.1, 0, 8192)?;
    let text = cookie.reply().map(|reply| reply.value).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let density = text.lines().find_map(|line| line.strip_prefix("Xft.dpi:")?.trim().parse().ok());
    Ok((density.unwrap_or(ORDINARY) / ORDINARY).clamp(1.0, 4.0))
}

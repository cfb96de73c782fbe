//! The picture by which sight is proven: a number drawn in digits, which nobody can tell who has not looked. [`read`] is for stand-ins,
//! which look at it point by point.

/// Points of a digit, five wide and seven high, a row a number, the leftmost point in the highest of five bits.
const DIGITS: [[u8; 7]; 10] = [
    [0b01110, 0b10001, 0b10011, 0b10101, 0b11001, 0b10001, 0b01110],
    [0b00100, 0b01100, 0b00100, 0b00100, 0b00100, 0b00100, 0b01110],
    [0b01110, 0b10001, 0b00001, 0b00110, 0b01000, 0b10000, 0b11111],
    [0b11110, 0b00001, 0b00001, 0b01110, 0b00001, 0b00001, 0b11110],
    [0b00010, 0b00110, 0b01010, 0b10010, 0b11111, 0b00010, 0b00010],
    [0b11111, 0b10000, 0b11110, 0b00001, 0b00001, 0b10001, 0b01110],
    [0b00110, 0b01000, 0b10000, 0b11110, 0b10001, 0b10001, 0b01110],
    [0b11111, 0b00001, 0b00010, 0b00100, 0b01000, 0b01000, 0b01000],
    [0b01110, 0b10001, 0b10001, 0b01110, 0b10001, 0b10001, 0b01110],
    [0b01110, 0b10001, 0b10001, 0b01111, 0b00001, 0b00010, 0b01100],
];

/// Points of the picture for each point of a digit: large enough for models that look at squares of 14 to 32 points.
const SCALE: usize = 12;

/// Points of a digit with the gap behind it.
const PITCH: usize = 6;

/// Rows of points around the digits.
const MARGIN: usize = 2;

fn size(digits: usize) -> (usize, usize) {
    ((digits * PITCH - 1 + 2 * MARGIN) * SCALE, (7 + 2 * MARGIN) * SCALE)
}

fn is_ink(digits: &[usize], x: usize, y: usize) -> bool {
    let (Some(x), Some(y)) = (x.checked_sub(MARGIN), y.checked_sub(MARGIN)) else { return false };
    let row = digits.get(x / PITCH).and_then(|digit| DIGITS.get(*digit)).and_then(|rows| rows.get(y));
    x % PITCH < 5 && row.is_some_and(|row| row >> (4 - x % PITCH) & 1 == 1)
}

/// `number` as a PNG, black on white.
///
/// # Panics
/// Never: writing into memory cannot fail.
#[must_use]
pub fn draw(number: u32) -> Vec<u8> {
    let digits: Vec<usize> = number.to_string().bytes().map(|digit| usize::from(digit - b'0')).collect();
    let (width, height) = size(digits.len());
    let points =
        (0..width * height).map(|at| if is_ink(&digits, at % width / SCALE, at / width / SCALE) { 0u8 } else { 255 });
    let points: Vec<u8> = points.collect();
    let mut out = Vec::new();
    let (width, height) = (u32::try_from(width).unwrap_or(0), u32::try_from(height).unwrap_or(0));
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Grayscale);
    encoder.set_depth(png::BitDepth::Eight);
    let mut writer = encoder.write_header().expect("writing into memory cannot fail");
    writer.write_image_data(&points).expect("writing into memory cannot fail");
    writer.finish().expect("writing into memory cannot fail");
    out
}

/// The number in a picture that [`draw`] has made; `None` when it is another picture.
#[must_use]
pub fn read(picture: &[u8]) -> Option<u32> {
    let mut reader = png::Decoder::new(std::io::Cursor::new(picture)).read_info().ok()?;
    let mut points = vec![0; reader.output_buffer_size()?];
    let frame = reader.next_frame(&mut points).ok()?;
    let width = usize::try_from(frame.width).ok()?;
    let count = (width / SCALE + 1).checked_sub(2 * MARGIN)? / PITCH;
    if size(count.max(1)).0 != width {
        return None;
    }
    // The middle of each point of a digit tells what it is.
    let ink = |x: usize, y: usize| {
        points.get((y * SCALE + SCALE / 2) * width + x * SCALE + SCALE / 2).is_some_and(|shade| *shade < 128)
    };
    let digit = |at: usize| {
        let row = |y: usize| (0..5).fold(0u8, |row, x| row << 1 | u8::from(ink(MARGIN + at * PITCH + x, MARGIN + y)));
        let rows: Vec<u8> = (0..7).map(row).collect();
        DIGITS.iter().position(|known| known[..] == rows[..])
    };
    (0..count).try_fold(0u32, |number, at| number.checked_mul(10)?.checked_add(u32::try_from(digit(at)?).ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn what_is_drawn_can_be_read(number in 1u32..99_999_999) {
            proptest::prop_assert_eq!(read(&draw(number)), Some(number));
        }
    }

    #[test]
    fn another_picture_holds_no_number() {
        assert_eq!(read(b"no picture"), None);
        assert_eq!(read(&draw(7)[..40]), None);
    }

    #[test]
    fn a_picture_is_as_large_as_its_digits_and_the_margin() {
        let size_of = |picture: &[u8]| {
            let reader = png::Decoder::new(std::io::Cursor::new(picture)).read_info().unwrap();
            (reader.info().width, reader.info().height)
        };
        assert_eq!([7, 42, 123].map(|number| size_of(&draw(number))), [(108, 132), (180, 132), (252, 132)]);
    }
}

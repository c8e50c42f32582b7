//! An acoustic model's files: means and variances of densities, the states' weights, and which sound of the
//! language each state belongs to. They begin with a description of themselves; all numbers are in the order
//! of bytes of the machine.

use std::f64::consts::PI;

use super::{
    AcousticModel, CEPSTRUM, CODES, Codebook, LEAST_VARIANCE, STREAMS, logarithm, natural_to_base,
    table_of_sums,
};

/// A file of a model is cut short, or of a form that we do not know.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{file}: unknown form")]
pub struct UnknownModel {
    /// What the file is called.
    pub file: &'static str,
}

/// States of each sound.
const STATES: usize = 3;

/// Reads numbers one after the other.
struct NumberReader<'b> {
    file: &'static str,
    bytes: &'b [u8],
}

impl<'b> NumberReader<'b> {
    fn unknown(&self) -> UnknownModel {
        UnknownModel { file: self.file }
    }

    fn take(&mut self, count: usize) -> Result<&'b [u8], UnknownModel> {
        let (taken, rest) = self.bytes.split_at_checked(count).ok_or(self.unknown())?;
        self.bytes = rest;
        Ok(taken)
    }

    fn word(&mut self) -> Result<[u8; 4], UnknownModel> {
        let word = self.take(4)?;
        word.try_into().map_err(|_| self.unknown())
    }

    fn count(&mut self) -> Result<usize, UnknownModel> {
        usize::try_from(i32::from_ne_bytes(self.word()?)).map_err(|_| self.unknown())
    }

    fn counts<const N: usize>(&mut self) -> Result<[usize; N], UnknownModel> {
        let mut counts = [0; N];
        for count in &mut counts {
            *count = self.count()?;
        }
        Ok(counts)
    }

    /// A text that ends with zero.
    fn skip_text(&mut self) -> Result<(), UnknownModel> {
        let end = self.bytes.iter().position(|byte| *byte == 0).ok_or(self.unknown())?;
        self.take(end + 1).map(|_| ())
    }

    fn expect(&self, holds: bool) -> Result<(), UnknownModel> {
        if holds { Ok(()) } else { Err(self.unknown()) }
    }
}

impl AcousticModel {
    /// The model in these files, called `means`, `variances`, `sendump` and `mdef`.
    ///
    /// # Errors
    /// When one of them is of a form that we do not know.
    pub fn parse(
        means: &[u8],
        variances: &[u8],
        weights: &[u8],
        sounds: &[u8],
    ) -> Result<AcousticModel, UnknownModel> {
        let states = parse_states(&mut NumberReader { file: "mdef", bytes: sounds })?;
        let mut means = NumberReader { file: "means", bytes: means };
        let mut variances = NumberReader { file: "variances", bytes: variances };
        let count = begin_densities(&mut means)?;
        let same = begin_densities(&mut variances)? == count;
        variances.expect(same)?;
        means.expect(states.iter().all(|sound| *sound < count))?;
        let mut codebooks = Vec::new();
        for _ in 0..count {
            let mut book = || Codebook::parse(&mut means, &mut variances);
            codebooks.push([book()?, book()?, book()?]);
        }
        let mut weights = NumberReader { file: "sendump", bytes: weights };
        let weights = parse_weights(&mut weights, states.len())?;
        let runs = states.chunk_by(|one, next| one == next).scan(0, |from, run| {
            let start = *from;
            *from += run.len();
            Some((run[0], start..*from))
        });
        let runs = runs.collect();
        Ok(AcousticModel { codebooks, weights, states: states.len(), runs, sums: table_of_sums() })
    }
}

impl Codebook {
    fn parse(
        means: &mut NumberReader,
        variances: &mut NumberReader,
    ) -> Result<Codebook, UnknownModel> {
        let mut book = Codebook {
            means: vec![[0.0; CODES]; CEPSTRUM],
            widths: vec![[0.0; CODES]; CEPSTRUM],
            heights: [0.0; CODES],
        };
        for code in 0..CODES {
            for at in 0..CEPSTRUM {
                let variance = f32::from_ne_bytes(variances.word()?).max(LEAST_VARIANCE);
                let twice = f64::from(variance) * 2.0;
                book.means[at][code] = f32::from_ne_bytes(means.word()?);
                book.widths[at][code] = natural_to_base(1.0 / twice);
                book.heights[code] += logarithm(1.0 / (twice * PI).sqrt());
            }
        }
        Ok(book)
    }
}

/// What stands before densities; how many codebooks there are.
fn begin_densities(reader: &mut NumberReader) -> Result<usize, UnknownModel> {
    const END: &[u8] = b"endhdr\n";
    let end = reader.bytes.windows(END.len()).position(|window| window == END);
    reader.take(end.ok_or(reader.unknown())? + END.len())?;
    let ours = reader.word()? == 0x1122_3344_u32.to_ne_bytes();
    reader.expect(ours)?;
    let [count, streams, codes, one, two, three, all] = reader.counts()?;
    let known = streams == STREAMS && codes == CODES && [one, two, three] == [CEPSTRUM; 3];
    reader.expect(known && Some(all) == count.checked_mul(STREAMS * CODES * CEPSTRUM))?;
    Ok(count)
}

/// A byte for each stream, density and state.
fn parse_weights(reader: &mut NumberReader, states: usize) -> Result<Vec<u8>, UnknownModel> {
    loop {
        let length = reader.count()?;
        if length == 0 {
            break;
        }
        // Those with a table of weights say so.
        let text = reader.take(length)?;
        reader.expect(
            !text.starts_with(b"cluster_count ") || text.starts_with(b"cluster_count 0\0"),
        )?;
    }
    let fits = reader.counts()? == [CODES, states];
    reader.expect(fits)?;
    reader.take(STREAMS * CODES * states).map(<[u8]>::to_vec)
}

/// The number of the sound that each state belongs to.
fn parse_states(reader: &mut NumberReader) -> Result<Vec<usize>, UnknownModel> {
    let known = reader.take(4)? == b"BMDF" && reader.count()? == 1;
    reader.expect(known)?;
    let description = reader.count()?;
    reader.take(description)?;
    let before = reader.bytes.len();
    let [sounds, phones, of_each, _, states, _, rows, _, tree, _] = reader.counts()?;
    reader.expect(of_each == STATES && states <= i16::MAX as usize)?;
    for _ in 0..sounds {
        reader.skip_text()?;
    }
    // As much as fills a word.
    reader.take((before - reader.bytes.len()).wrapping_neg() % 4)?;
    reader.take(tree.checked_mul(8).ok_or(reader.unknown())?)?;
    let entries = reader.take(phones.checked_mul(12).ok_or(reader.unknown())?)?;
    let whole = Some(reader.count()?) == rows.checked_mul(STATES);
    reader.expect(whole)?;
    let table = reader.take(rows * STATES * 2)?;
    let mut sound_of = vec![usize::MAX; states];
    for (number, entry) in entries.chunks_exact(12).enumerate() {
        let row = u32::from_ne_bytes([entry[0], entry[1], entry[2], entry[3]]) as usize;
        // What is a sound in a context names its sound, the others are one.
        let sound = if number < sounds { number } else { usize::from(entry[9]) };
        let row = table.get(row * STATES * 2..(row + 1) * STATES * 2).ok_or(reader.unknown())?;
        for state in row.chunks_exact(2) {
            let state = usize::from(u16::from_ne_bytes([state[0], state[1]]));
            *sound_of.get_mut(state).ok_or(reader.unknown())? = sound;
        }
    }
    reader.expect(sound_of.iter().all(|sound| *sound < sounds))?;
    Ok(sound_of)
}

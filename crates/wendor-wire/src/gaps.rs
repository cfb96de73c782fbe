//! Between two blocks of an answer, where a dialect has one text: a blank line, so that the end of one is not glued to the beginning of
//! the next.

use std::collections::BTreeSet;

/// What stands between two blocks.
pub(crate) const GAP: &str = "\n\n";

/// Which of a choice's two texts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Said {
    Text,
    Thinking,
}

/// Where a gap is due in a stream.
#[derive(Debug, Default)]
pub(crate) struct Gaps {
    /// What has been said so far, by choice.
    said: BTreeSet<(u32, Said)>,
    /// Where another block has begun since.
    begun: BTreeSet<(u32, Said)>,
}

impl Gaps {
    /// Another block of `choice` begins.
    pub fn next_block(&mut self, choice: u32) {
        for said in [Said::Text, Said::Thinking] {
            if self.said.contains(&(choice, said)) {
                self.begun.insert((choice, said));
            }
        }
    }

    /// What goes before the next piece of a text.
    pub fn before(&mut self, choice: u32, said: Said) -> &'static str {
        self.said.insert((choice, said));
        if self.begun.remove(&(choice, said)) { GAP } else { "" }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gap_stands_between_blocks_of_one_text_alone() {
        let mut gaps = Gaps::default();
        gaps.next_block(0);
        assert_eq!(gaps.before(0, Said::Thinking), "", "nothing came before");
        gaps.next_block(0);
        assert_eq!(gaps.before(0, Said::Text), "", "the first of its text");
        assert_eq!(gaps.before(0, Said::Text), "");
        gaps.next_block(0);
        assert_eq!([gaps.before(0, Said::Text), gaps.before(0, Said::Text)], [GAP, ""]);
        assert_eq!(gaps.before(1, Said::Text), "", "of another choice");
    }
}

//! Probabilities of tokens, as every dialect but one has them.

use crate::conversation::event::TokenLogprob;
use crate::json::{Json, Members, Node, Wrong};

/// A list of tokens with their log probabilities, as this dialect, responses and local-chat have it.
pub(crate) fn read(nodes: &[Node<'_>]) -> Result<Vec<TokenLogprob>, Wrong> {
    let one = |node: &Node<'_>| {
        let mut token = node.object()?;
        let mut top = Vec::new();
        for node in token.list("top_logprobs")? {
            let mut other = node.object()?;
            let missing = || node.wrong("a token with its `logprob`");
            top.push((other.text("token")?.unwrap_or_default(), other.number("logprob")?.ok_or_else(missing)?));
        }
        let logprob = token.number("logprob")?.ok_or_else(|| node.wrong("a token with its `logprob`"))?;
        Ok(TokenLogprob { token: token.text("token")?.unwrap_or_default(), logprob, top })
    };
    nodes.iter().map(one).collect()
}

/// Tokens with their log probabilities, as this dialect and responses have them.
pub(crate) fn write(tokens: &[TokenLogprob]) -> Vec<Json> {
    let bytes = |token: &str| token.bytes().map(|byte| Json::from(u64::from(byte))).collect::<Vec<Json>>();
    let one = |token: &TokenLogprob| {
        let top = token.top.iter().map(|(other, logprob)| {
            Members::new().put("token", other).put("logprob", logprob).put("bytes", bytes(other)).into()
        });
        Members::new()
            .put("token", &token.token)
            .put("logprob", &token.logprob)
            .put("bytes", bytes(&token.token))
            .put("top_logprobs", top.collect::<Vec<Json>>())
            .into()
    };
    tokens.iter().map(one).collect()
}

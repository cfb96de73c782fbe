//! Ready code that asks a route: in the shell, Python and JavaScript, whole and streamed, with nothing but what comes with each. The key
//! is named by its environment variable and never stands in it.

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

worded! {
    /// Where code runs.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Language {
        /// A POSIX shell with curl.
        Shell = "shell",
        /// Python 3, its standard library.
        Python = "python",
        /// JavaScript, Node.js 18 or later, its own `fetch`.
        Javascript = "javascript",
    }
}

impl Language {
    /// A file's name for code of it.
    #[must_use]
    pub fn file_name(self) -> &'static str {
        match self {
            Self::Shell => "ask.sh",
            Self::Python => "ask.py",
            Self::Javascript => "ask.mjs",
        }
    }
}

/// How the answer comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// In one piece.
    Whole,
    /// Piece by piece.
    Streamed,
}

/// The environment variable that holds the key.
pub const KEY_VARIABLE: &str = "WENDOR_KEY";

/// Code that asks `route` of the gateway at `base`, such as `http://127.0.0.1:7420`.
#[must_use]
pub fn code(language: Language, way: Way, base: &str, route: &str) -> String {
    let template = match (language, way) {
        (Language::Shell, Way::Whole) => SHELL_WHOLE,
        (Language::Shell, Way::Streamed) => SHELL_STREAMED,
        (Language::Python, Way::Whole) => PYTHON_WHOLE,
        (Language::Python, Way::Streamed) => PYTHON_STREAMED,
        (Language::Javascript, Way::Whole) => JAVASCRIPT_WHOLE,
        (Language::Javascript, Way::Streamed) => JAVASCRIPT_STREAMED,
    };
    template.replace("@BASE@", base.trim_end_matches('/')).replace("@ROUTE@", route)
}

/// A file of environment variables for an app: address, route, and the variable that its key must be put into.
#[must_use]
pub fn env_file(base: &str, route: &str) -> String {
    let base = base.trim_end_matches('/');
    format!(
        "# Put the key that was issued to you behind WENDOR_KEY=, and keep this file out of version control.\n\
         WENDOR_URL={base}\nWENDOR_ROUTE={route}\n{KEY_VARIABLE}=\n"
    )
}

const SHELL_WHOLE: &str = r#"#!/bin/sh
# The key is in the variable WENDOR_KEY. Prints the whole reply as JSON.
set -eu
curl --fail-with-body --silent --show-error "@BASE@/v1/chat/completions" \
  --header "Authorization: Bearer ${WENDOR_KEY:?is not set}" \
  --header "Content-Type: application/json" \
  --data '{"model": "@ROUTE@", "messages": [{"role": "user", "content": "When does the last boat leave?"}]}'
"#;

const SHELL_STREAMED: &str = r#"#!/bin/sh
# The key is in the variable WENDOR_KEY. Prints each event of the stream as it comes; the last is [DONE].
set -eu
curl --fail-with-body --silent --show-error --no-buffer "@BASE@/v1/chat/completions" \
  --header "Authorization: Bearer ${WENDOR_KEY:?is not set}" \
  --header "Content-Type: application/json" \
  --data '{"model": "@ROUTE@", "stream": true, "messages": [{"role": "user", "content": "When does the last boat leave?"}]}'
"#;

const PYTHON_WHOLE: &str = r#"# The key is in the variable WENDOR_KEY. Needs nothing but Python.
import json
import os
import urllib.error
import urllib.request

request = urllib.request.Request(
    "@BASE@/v1/chat/completions",
    headers={"Authorization": "Bearer " + os.environ["WENDOR_KEY"], "Content-Type": "application/json"},
    data=json.dumps({
        "model": "@ROUTE@",
        "messages": [{"role": "user", "content": "When does the last boat leave?"}],
    }).encode(),
)
try:
    with urllib.request.urlopen(request, timeout=600) as response:
        reply = json.load(response)
except urllib.error.HTTPError as error:
    raise SystemExit(f"{error.code}: {error.read().decode()}")
print(reply["choices"][0]["message"]["content"])
"#;

const PYTHON_STREAMED: &str = r#"# The key is in the variable WENDOR_KEY. Needs nothing but Python.
import json
import os
import urllib.error
import urllib.request

request = urllib.request.Request(
    "@BASE@/v1/chat/completions",
    headers={"Authorization": "Bearer " + os.environ["WENDOR_KEY"], "Content-Type": "application/json"},
    data=json.dumps({
        "model": "@ROUTE@",
        "stream": True,
        "messages": [{"role": "user", "content": "When does the last boat leave?"}],
    }).encode(),
)
try:
    with urllib.request.urlopen(request, timeout=600) as response:
        for line in response:
            if not line.startswith(b"data: "):
                continue
            event = line[len(b"data: "):].strip()
            if event == b"[DONE]":
                print()
                break
            frame = json.loads(event)
            if "error" in frame:
                raise SystemExit(frame["error"]["message"])
            for choice in frame["choices"]:
                print(choice["delta"].get("content") or "", end="", flush=True)
        else:
            raise SystemExit("the stream ended in the middle")
except urllib.error.HTTPError as error:
    raise SystemExit(f"{error.code}: {error.read().decode()}")
"#;

const JAVASCRIPT_WHOLE: &str = r#"// The key is in the variable WENDOR_KEY. Needs nothing but Node.js 18 or later.
const response = await fetch("@BASE@/v1/chat/completions", {
  method: "POST",
  headers: { Authorization: `Bearer ${process.env.WENDOR_KEY}`, "Content-Type": "application/json" },
  body: JSON.stringify({
    model: "@ROUTE@",
    messages: [{ role: "user", content: "When does the last boat leave?" }],
  }),
});
if (!response.ok) throw new Error(`${response.status}: ${await response.text()}`);
const reply = await response.json();
console.log(reply.choices[0].message.content);
"#;

const JAVASCRIPT_STREAMED: &str = r#"// The key is in the variable WENDOR_KEY. Needs nothing but Node.js 18 or later.
const response = await fetch("@BASE@/v1/chat/completions", {
  method: "POST",
  headers: { Authorization: `Bearer ${process.env.WENDOR_KEY}`, "Content-Type": "application/json" },
  body: JSON.stringify({
    model: "@ROUTE@",
    stream: true,
    messages: [{ role: "user", content: "When does the last boat leave?" }],
  }),
});
if (!response.ok) throw new Error(`${response.status}: ${await response.text()}`);
const decoder = new TextDecoder();
let rest = "";
let isDone = false;
for await (const part of response.body) {
  rest += decoder.decode(part, { stream: true });
  const lines = rest.split("\n");
  rest = lines.pop();
  for (const line of lines.filter((line) => line.startsWith("data: "))) {
    const event = line.slice("data: ".length).trim();
    if (event === "[DONE]") {
      isDone = true;
      continue;
    }
    const frame = JSON.parse(event);
    if (frame.error) throw new Error(frame.error.message);
    for (const choice of frame.choices) process.stdout.write(choice.delta.content ?? "");
  }
}
if (!isDone) throw new Error("the stream ended in the middle");
process.stdout.write("\n");
"#;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_of_it_names_the_route_and_the_variable_and_never_a_key() {
        for language in Language::ALL {
            for way in [Way::Whole, Way::Streamed] {
                let code = code(language, way, "http://127.0.0.1:7420/", "night-sailings");
                assert!(code.contains("http://127.0.0.1:7420/v1/chat/completions"), "{code}");
                assert!(
                    code.contains("night-sailings") && code.contains(KEY_VARIABLE) && !code.contains("wdr-"),
                    "{code}"
                );
                assert!(!code.contains('@'), "{code}");
            }
        }
        assert!(env_file("http://127.0.0.1:7420", "manifests").ends_with("WENDOR_ROUTE=manifests\nWENDOR_KEY=\n"));
    }
}

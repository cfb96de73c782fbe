//! What an offer can do, what it is marked with, and what it lets apps control. All three are lists of words in the catalogue.

use serde::{Deserialize, Serialize};

macro_rules! words {
    ($(#[doc = $outer:literal])+ $name:ident { $($(#[doc = $doc:literal])+ $variant:ident => $word:literal,)+ }) => {
        $(#[doc = $outer])+
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name {
            $($(#[doc = $doc])+ #[serde(rename = $word)] $variant,)+
        }

        impl $name {
            /// Every word, with what it stands for.
            pub const WORDS: &'static [(&'static str, Self)] = &[$(($word, Self::$variant)),+];

            /// Its word.
            #[must_use]
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)+
                }
            }
        }
    };
}

words! {
    /// Something that an offer can do. An offer that declares none is taken to do all that its dialect has.
    Ability {
        /// Conversations.
        Chat => "chat",
        /// Calls of functions.
        Tools => "tools",
        /// Images in the request.
        ImagesIn => "images-in",
        /// Images in the answer.
        ImagesOut => "images-out",
        /// Answers in JSON, also of a schema.
        Json => "json",
        /// Thinking, and how long.
        Reasoning => "reasoning",
        /// Answers that stream.
        Streaming => "streaming",
        /// Answers in one piece.
        Whole => "whole",
        /// Vectors of texts.
        Embeddings => "embeddings",
        /// Text that is continued, without turns.
        Completions => "completions",
    }
}

words! {
    /// What an upstream does beyond its dialect, or less, so that translation takes it into account.
    Mark {
        /// Chat-completions: it knows `top_k`.
        TopK => "top-k",
        /// Chat-completions: it knows the role `developer`.
        Developer => "developer",
        /// Chat-completions: it refuses the role `developer`, and gets such turns as `system`.
        NoDeveloper => "no-developer",
        /// Chat-completions: it knows the limit only as `max_tokens`.
        OldLimit => "old-limit",
        /// Chat-completions: earlier thinking goes back to it as `reasoning_content`.
        ReasoningHistory => "reasoning-history",
        /// Messages: it takes system turns in the middle.
        SystemTurns => "system-turns",
        /// It continues a last turn of the model.
        Prefill => "prefill",
        /// Generate-content: it knows schemas only in the older, typed form.
        TypedSchemas => "typed-schemas",
        /// Generate-content: it answers in sound or images.
        AudioOut => "audio-out",
        /// It refuses tool results whose thinking does not come back sealed, so thinking is turned off where the seal is lost.
        SealedLoops => "sealed-loops",
        /// Embeddings: it cuts texts into the same tokens as the apps that send token ids.
        TokenIds => "token-ids",
    }
}

words! {
    /// A setting of apps that costs or evicts beyond one request.
    Control {
        /// How long a local server keeps a model loaded.
        StayLoaded => "stay-loaded",
        /// The context window that a local server loads a model with.
        LoadedWindow => "loaded-window",
        /// Other options by which a local server loads a model.
        LoadOptions => "load-options",
        /// How fast and dear a service is to answer.
        ServiceTier => "service-tier",
        /// Tools that a service runs itself, and bills.
        HostedTools => "hosted-tools",
        /// To keep the answer at the service.
        Store => "store",
    }
}

words! {
    /// What is done with a control that an app sets.
    ControlPolicy {
        /// It goes to the upstream.
        Pass => "pass",
        /// It is left out, and that is noted.
        Strip => "strip",
        /// The request is refused.
        Refuse => "refuse",
    }
}

/// What an offer does with each control. What is not set has its safe default. Earlier revisions may hold two of them by another name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Controls {
    /// For [`Control::StayLoaded`].
    #[serde(default, alias = "keep-alive", skip_serializing_if = "Option::is_none")]
    pub stay_loaded: Option<ControlPolicy>,
    /// For [`Control::LoadedWindow`].
    #[serde(default, alias = "num-ctx", skip_serializing_if = "Option::is_none")]
    pub loaded_window: Option<ControlPolicy>,
    /// For [`Control::LoadOptions`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_options: Option<ControlPolicy>,
    /// For [`Control::ServiceTier`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service_tier: Option<ControlPolicy>,
    /// For [`Control::HostedTools`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hosted_tools: Option<ControlPolicy>,
    /// For [`Control::Store`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<ControlPolicy>,
}

impl Controls {
    /// What is done with `control`. By default what only tunes is left out, and what the answer hangs on is refused.
    #[must_use]
    pub fn of(self, control: Control) -> ControlPolicy {
        match control {
            Control::StayLoaded => self.stay_loaded.unwrap_or(ControlPolicy::Strip),
            Control::LoadedWindow => self.loaded_window.unwrap_or(ControlPolicy::Strip),
            Control::LoadOptions => self.load_options.unwrap_or(ControlPolicy::Strip),
            Control::ServiceTier => self.service_tier.unwrap_or(ControlPolicy::Strip),
            Control::HostedTools => self.hosted_tools.unwrap_or(ControlPolicy::Refuse),
            Control::Store => self.store.unwrap_or(ControlPolicy::Strip),
        }
    }

    /// Sets what is done with `control`.
    pub fn set(&mut self, control: Control, policy: ControlPolicy) {
        let place = match control {
            Control::StayLoaded => &mut self.stay_loaded,
            Control::LoadedWindow => &mut self.loaded_window,
            Control::LoadOptions => &mut self.load_options,
            Control::ServiceTier => &mut self.service_tier,
            Control::HostedTools => &mut self.hosted_tools,
            Control::Store => &mut self.store,
        };
        *place = Some(policy);
    }

    /// What is set, in order.
    pub fn set_ones(self) -> impl Iterator<Item = (Control, ControlPolicy)> {
        let all = [
            (Control::StayLoaded, self.stay_loaded),
            (Control::LoadedWindow, self.loaded_window),
            (Control::LoadOptions, self.load_options),
            (Control::ServiceTier, self.service_tier),
            (Control::HostedTools, self.hosted_tools),
            (Control::Store, self.store),
        ];
        all.into_iter().filter_map(|(control, policy)| Some((control, policy?)))
    }
}

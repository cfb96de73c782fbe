//! Everything that a request can hold, as far as dialects differ in what becomes of it.

use serde::Serialize;

macro_rules! fields {
    ($($(#[doc = $doc:literal])+ $name:ident => $word:literal,)+) => {
        /// A field of a request.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
        pub enum Field {
            $($(#[doc = $doc])+ $name,)+
        }

        impl Field {
            /// Every field.
            pub const ALL: &'static [Self] = &[$(Self::$name),+];

            /// What it is called in the documentation.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)+
                }
            }
        }
    };
}

fields! {
    /// Instructions at the start.
    SystemText => "system text",
    /// Instructions of the developer, where that is another role.
    DeveloperText => "developer text",
    /// Instructions in the middle of a conversation.
    SystemMidway => "system text in the middle",
    /// A name of whoever speaks.
    TurnName => "name of a turn",
    /// A last turn of the model that it is to continue.
    Prefill => "begun answer",
    /// A first turn of the model.
    AssistantFirst => "first turn of the model",
    /// An image, its bytes in the request.
    ImageBytes => "image by its bytes",
    /// An image at an address.
    ImageUrl => "image by address",
    /// How closely to look at an image.
    ImageDetail => "image detail",
    /// Sound to be heard.
    AudioIn => "audio in",
    /// Sound of another kind than wav and mp3.
    OtherAudioIn => "audio in, neither wav nor mp3",
    /// Sound in the answer.
    AudioOut => "audio out",
    /// A document, its bytes in the request.
    FileBytes => "document by its bytes",
    /// A document at an address.
    FileUrl => "document by address",
    /// A document made of blocks.
    BlockDocument => "document of blocks",
    /// Moving pictures.
    Video => "video",
    /// A function.
    FunctionTool => "function",
    /// Holding the model to a function's schema.
    ToolStrict => "strict function",
    /// A tool that takes free text.
    CustomTool => "free-text tool",
    /// A tool that the service runs itself.
    HostedTool => "tool of the service",
    /// The model decides about calls.
    ChoiceAuto => "choice: as it likes",
    /// No call.
    ChoiceNone => "choice: none",
    /// Some call.
    ChoiceRequired => "choice: some function",
    /// One function.
    ChoiceNamed => "choice: this function",
    /// Some of the functions.
    ChoiceSubset => "choice: some of the functions",
    /// Not several calls at once.
    ParallelOff => "one call at a time",
    /// An image that a tool gave.
    ToolResultImage => "image in a tool result",
    /// A document or a sound that a tool gave.
    ToolResultFile => "document in a tool result",
    /// A call in the history whose arguments are no JSON object.
    BrokenArguments => "call with broken arguments",
    /// A tool failed.
    ToolResultError => "failed tool result",
    /// A tool result of no call that is in the conversation.
    UnlinkedResult => "tool result without its call",
    /// The same, and without the function's name.
    UnnamedResult => "tool result without call and name",
    /// The most output tokens.
    OutputLimit => "output limit",
    /// Two output limits that differ.
    OutputLimits => "two output limits that differ",
    /// Temperature up to 1.
    Temperature => "temperature",
    /// Temperature above 1.
    TemperatureAboveOne => "temperature above 1",
    /// Nucleus sampling.
    TopP => "top_p",
    /// The likeliest tokens only.
    TopK => "top_k",
    /// Stop texts.
    Stop => "stop texts",
    /// More than four stop texts.
    StopsAboveFour => "more than 4 stop texts",
    /// More than five stop texts.
    StopsAboveFive => "more than 5 stop texts",
    /// A seed.
    Seed => "seed",
    /// Penalties other than zero.
    Penalties => "penalties",
    /// Penalties of zero.
    PenaltiesZero => "penalties of zero",
    /// The penalty of local servers.
    RepeatPenalty => "repeat penalty",
    /// Several answers.
    Choices => "several choices",
    /// Log probabilities.
    Logprobs => "log probabilities",
    /// Bias by token.
    LogitBias => "logit bias",
    /// Any JSON.
    JsonMode => "JSON without a schema",
    /// JSON of a schema.
    JsonSchema => "JSON of a schema",
    /// How much to think, in a word.
    Effort => "thinking effort",
    /// How many tokens to think.
    ThinkingBudget => "thinking budget",
    /// To think as the model likes.
    ThinkingDynamic => "thinking on",
    /// Not to think.
    ThinkingOff => "thinking off",
    /// To think on in a loop of tools whose earlier thinking is not sealed by the upstream.
    ThinkingInLoop => "thinking in a loop of tools without its seal",
    /// Whether thinking is shown.
    ThinkingShown => "thinking shown",
    /// Earlier thinking as text.
    ThinkingHistory => "earlier thinking",
    /// Earlier thinking with a seal that the upstream made.
    SealedThinking => "earlier thinking, sealed by this upstream",
    /// Earlier thinking with a seal of somebody else.
    ForeignSeal => "earlier thinking, sealed elsewhere",
    /// The app's user.
    EndUser => "end user",
    /// Names for caches and abuse checks.
    UserMarks => "safety and cache identity",
    /// Notes of the app.
    Metadata => "metadata",
    /// What is worth caching.
    CacheMarks => "cache marks",
    /// The same on a whole turn, on tools or on the whole request.
    WideCacheMarks => "cache marks beside parts",
    /// How wordy.
    Verbosity => "verbosity",
    /// What the answer will mostly be.
    Prediction => "predicted output",
    /// Sources to be named.
    Citations => "citations",
    /// What may not be said.
    SafetySettings => "safety settings",
    /// Answers other than text.
    OtherModalities => "answers other than text",
    /// Names for bills.
    BillingLabels => "billing labels",
    /// To cut the conversation where it is too long.
    TruncationAuto => "automatic truncation",
    /// Calls of the service's tools.
    MaxToolCalls => "limit of hosted calls",
    /// Extras of the service's tools.
    IncludeHosted => "extras of hosted tools",
    /// Where in its own server's memory a model stays, for how long.
    KeepAlive => "keep_alive",
    /// The context window of a local server.
    NumCtx => "num_ctx",
    /// How a local server loads a model.
    LoadOptions => "load options",
    /// How fast and dear.
    ServiceTier => "service tier",
    /// To keep the answer at the service.
    Store => "store",
    /// Conversations, items, files and caches that a service keeps for whoever has its credential.
    SharedState => "state kept at the service",
    /// To go on when the app is gone.
    Background => "background",
    /// What only the dialect itself knows and no answer's meaning hangs on.
    OwnKnob => "other settings of the dialect",
    /// A setting that says what is so anyway, or what only its own service has use for.
    Usual => "settings that say the usual",
    /// What only the dialect itself knows and cannot be said elsewhere.
    OwnOnly => "other parts of the dialect",
}

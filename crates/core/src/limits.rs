//! How much of anything is taken: every limit that somebody can meet stands here, once, and in `docs/limits.md`.
//!
//! What is over a limit is refused with words, never cut in silence; where something else happens, the limit says so.

/// One limit: what it is of, how many, and what happens beyond it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limit {
    pub what: &'static str,
    pub most: usize,
    pub unit: &'static str,
    pub beyond: &'static str,
}

impl Limit {
    /// Words for whoever gave `n` of it, where that is too many.
    ///
    /// # Errors
    /// How many there may be.
    pub fn check(&self, n: usize) -> Result<(), String> {
        if n <= self.most {
            return Ok(());
        }
        Err(format!(
            "{} {}; at most {} are taken.",
            grouped(n),
            self.unit,
            grouped(self.most)
        ))
    }
}

/// A number with its thousands apart.
pub fn grouped(n: usize) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

macro_rules! limits {
    ($($name:ident = $most:expr, $unit:literal, $what:literal, $beyond:literal;)*) => {
        $(pub const $name: Limit = Limit { what: $what, most: $most, unit: $unit, beyond: $beyond };)*
        /// All of them, in the order of the page that tells them.
        pub const ALL: &[Limit] = &[$($name),*];
    };
}

const FIELD_WORDS: &str = "refused with words at the field";

macro_rules! at_the_field {
    ($($name:ident = $most:expr, $unit:literal, $what:literal;)*) => {
        $(pub const $name: Limit = Limit { what: $what, most: $most, unit: $unit, beyond: FIELD_WORDS };)*
        /// What is typed into sheets.
        pub const TYPED: &[Limit] = &[$($name),*];
    };
}

at_the_field! {
    NAME = 63, "characters", "the name of a machine, host, volume or network (RFC 1035: one DNS label)";
    GROUP = 60, "characters", "the name of a cluster, site or rule";
    LINE = 200, "characters", "any other field of one line";
    IMAGE_NAME = 80, "characters", "the name of an image";
    NOTE = 2_000, "characters", "a note";
    LIST = 65_536, "characters", "a field of many lines: pasted lists, chosen things";
    LABEL_KEY = 40, "characters", "a label's name";
    LABEL_VALUE = 60, "characters", "a label's value";
    LABELS = 32, "labels", "labels of one thing";
    JOBS = 200, "jobs", "jobs that back up or replicate";
    LOCKED = 3_650, "days", "for how long a store locks what is written to it";
    PLANS = 100, "plans", "recovery plans";
    DRILLED = 500, "machines", "machines of one drill, move or failover";
    STAGES = 20, "stages", "stages of a recovery plan";
    BETWEEN = 10, "lines", "what lies between two stages of a plan";
    PAIRS = 50, "pairs", "pairs of sites";
    MAPS = 500, "lines", "lines of what is what at the two sites of a pair";
    TOGETHER = 32, "machines", "machines that stand still at once";
    QUESTIONS = 20, "questions", "questions that one machine must answer";
    PLEDGES = 200, "pledges", "pledges of the estate";
    TERMS = 32, "labels", "labels in an expression of labels";
    QUALITIES = 12, "qualities", "qualities of one volume";
    AT_ONCE = 100, "machines", "machines made by one run";
    DISKS = 16, "disks", "disks of one machine";
    SPARES = 100, "machines", "spares of one pool";
    OF_POOL = 1000, "machines", "machines of one pool";
    NODES = 16, "machines", "machines that share one disk";
    CARDS = 16, "cards", "network cards of one machine";
    GUEST_KEYS = 16, "keys", "keys of the user in a first-boot document";
    NAME_SERVERS = 3, "of these", "name servers, and search domains, of a first-boot document";
    COMMANDS = 32, "commands", "commands of a first-boot document";
    CHOSEN = 10_000, "things", "things chosen for one run";
    DEVICES = 64, "addresses", "hosts claimed by one run";
    CONTROLLERS = 8, "addresses", "management addresses of one array";
    SUBNETS = 16, "subnets", "subnets of one network";
    RESERVED = 4_096, "addresses", "addresses kept on one network";
    RULES = 200, "rules", "placement rules of one cluster";
    SCAN = 4_096, "addresses", "addresses of one scan";
    MANAGEMENT = 256, "networks", "management networks";
    PASSWORD = 200, "characters", "a password";
    PERSON = 60, "characters", "a person's name";
}

limits! {
    DOOR = 8 << 10, "bytes", "what is sent to sign in", "refused";
    FORM = 512 << 10, "bytes", "a sent form", "refused; nothing is changed";
    PIECE = 8 << 20, "bytes", "a piece of a file", "refused; the file goes on with smaller pieces";
    HEAD = 96 << 10, "bytes", "a request's line and headers", "refused";
    HEADERS = 64, "headers", "headers of a request", "refused";
    DEVICE_ANSWER = 4 << 20, "bytes", "an answer of a device", "the answer counts as garbled";
    DEVICE_WORDS = 2_000, "characters", "one text in a device's answer", "cut; control characters leave";
    FIGURE_MEMORY = 64 << 40, "bytes", "memory that a device tells of", "counts as the most";
    FIGURE_DISK = 16 << 50, "bytes", "a disk or volume that a device tells of", "counts as the most";
    FIGURE_CORES = 65_536, "cores", "cores, vCPUs or nodes that a device tells of", "counts as the most";
    FIGURE_RATE = 100_000_000, "units", "MHz of a host, or Mbit/s of an uplink, that a device tells of", "counts as the most";
    FIGURE_COUNT = 1 << 62, "starts", "starts that a machine's record tells of", "counts as the most";
    FRAME = 16 << 10, "bytes", "a message of a browser on a console", "the console is closed";
    STREAMS = 8, "streams", "live streams of one person in one process", "the page says that it is not live";
    TICKETS = 32, "tickets", "console tickets of one person within 30 s", "refused with words";
    LOOKS = 64, "consoles", "consoles and screens of one person in one process", "refused with words";
    SESSIONS = 32, "sessions", "sessions of one person", "the one that was used least lately ends";
    EVIDENCE = 20_000, "answers", "answers to questions that are kept", "the oldest leave";
    ANNOUNCEMENTS = 2_048, "hosts", "hosts that announce themselves", "newer ones are passed over";
    ATTEMPTS = 10_000, "pairs", "pairs of account and address whose wrong attempts are remembered", "the oldest leave";
}

/// The page that tells them.
pub fn page() -> String {
    let mut out = String::from("| of | at most | beyond it |\n| --- | ---: | --- |\n");
    for limit in TYPED.iter().chain(ALL) {
        let most = grouped(limit.most);
        out.push_str(&format!(
            "| {} | {most} {} | {} |\n",
            limit.what, limit.unit, limit.beyond
        ));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_documented_limits_are_those_that_hold() {
        let told = include_str!("../../../docs/limits.md");
        assert!(
            told.contains(&page()),
            "docs/limits.md must hold this table:\n{}",
            page()
        );
    }

    #[test]
    fn who_is_over_it_reads_both_numbers() {
        assert_eq!(LABELS.check(32), Ok(()));
        assert_eq!(
            CHOSEN.check(12_345).unwrap_err(),
            "12,345 things; at most 10,000 are taken."
        );
    }
}

//! Comma-separated values (RFC 4180) that no spreadsheet takes for a formula.

use zastrugi_core::{limits, text};

/// A table with a head line. Cells that begin with `=`, `+`, `-`, `@` or a tab get a quote in front; control
/// characters leave.
pub fn write<const N: usize>(head: [&str; N], rows: impl Iterator<Item = [String; N]>) -> String {
    let mut out = csv::WriterBuilder::new()
        .terminator(csv::Terminator::CRLF)
        .from_writer(Vec::new());
    // Writing to memory does not fail.
    let _ = out.write_record(head);
    for row in rows {
        let _ = out.write_record(row.iter().map(|cell| safe(cell)));
    }
    out.into_inner()
        .ok()
        .and_then(|bytes| String::from_utf8(bytes).ok())
        .unwrap_or_default()
}

/// Reads lines of up to `N` cells, with the number of each line; missing cells are empty.
///
/// # Errors
/// Words for whoever typed it: the line that has too many cells or isn't CSV.
pub fn read<const N: usize>(text: &str) -> Result<Vec<(u64, [String; N])>, String> {
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(delimiter(text))
        .has_headers(false)
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|e| format!("This is not CSV: {e}."))?;
        let line = record.position().map_or(0, csv::Position::line);
        if record.len() > N {
            return Err(format!(
                "Line {line} has {} cells; {N} are expected.",
                record.len()
            ));
        }
        let cell = |i: usize| record.get(i).unwrap_or_default().to_owned();
        rows.push((line, std::array::from_fn(cell)));
    }
    Ok(rows)
}

/// What separates cells: of comma, semicolon and tab the one that the first line has most of; spreadsheets differ.
pub fn delimiter(text: &str) -> u8 {
    let first = text
        .lines()
        .find(|l| !l.trim().is_empty())
        .unwrap_or_default();
    let count = |d: u8| first.bytes().filter(|b| *b == d).count();
    [b',', b';', b'\t']
        .into_iter()
        .rev()
        .max_by_key(|d| count(*d))
        .unwrap_or(b',')
}

/// What is left is what is judged: a character that leaves must not hide what stands behind it.
fn safe(cell: &str) -> String {
    let clean = text::cleaned(cell, &limits::LIST, false);
    let risky = clean
        .trim_start()
        .starts_with(['=', '+', '-', '@', '＝', '＋', '－', '＠']);
    if risky { format!("'{clean}") } else { clean }
}

/// A time in milliseconds since 1970 as `2026-11-23T07:05:09Z` (RFC 3339).
pub fn utc(ms: i64) -> String {
    let seconds = ms.div_euclid(1000);
    let (days, of_day) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
    let (y, m, d) = civil(days);
    format!(
        "{y:04}-{m:02}-{d:02}T{:02}:{:02}:{:02}Z",
        of_day / 3600,
        of_day / 60 % 60,
        of_day % 60
    )
}

/// Days since 1970-01-01 as a date of the proleptic Gregorian calendar (Hinnant 2013, `civil_from_days`).
fn civil(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let mp = (5 * of_year + 2) / 153;
    let day = of_year - (153 * mp + 2) / 5 + 1;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    (year + era * 400 + i64::from(month <= 2), month, day)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_taken_for_a_formula() {
        let rows = [
            ["=1+1".to_owned(), "a,b\"c".to_owned()],
            ["@x\u{7}".to_owned(), "plain".to_owned()],
            ["\u{1}=1".to_owned(), "\u{200b}+1".to_owned()],
            [" \t-1".to_owned(), "\r\n@a".to_owned()],
        ];
        let text = write(["one", "two"], rows.into_iter());
        assert_eq!(
            text,
            "one,two\r\n'=1+1,\"a,b\"\"c\"\r\n'@x,plain\r\n'=1,'+1\r\n'  -1,' @a\r\n"
        );
    }

    #[test]
    fn times_are_dates_of_the_calendar() {
        assert_eq!(utc(0), "1970-01-01T00:00:00Z");
        assert_eq!(utc(951_826_600_000), "2000-02-29T12:16:40Z");
        assert_eq!(utc(-1000), "1969-12-31T23:59:59Z");
    }
}

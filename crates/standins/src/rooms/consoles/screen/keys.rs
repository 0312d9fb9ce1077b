//! Keyboards: from key symbols (RFC 6143, section 7.5.4: those of the X Window System) to places on a keyboard, and from
//! places to characters. A guest sees places only, so both ends must mean the same keyboard.

/// A key by where it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Place {
    /// One that types characters, counted from the top left.
    Char(u8),
    Enter,
    Tab,
    Backspace,
    Delete,
    Escape,
    Shift,
    Ctrl,
    Alt,
    AltGr,
    Super,
    F(u8),
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Layout {
    #[default]
    Us,
    German,
    French,
    Swedish,
}

/// Four rows of keys: plain, shifted, third level; a space stands for none. The last key is the space bar.
struct Rows {
    plain: &'static str,
    shifted: &'static str,
    third: &'static str,
}

const US: Rows = Rows {
    plain: "`1234567890-=qwertyuiop[]asdfghjkl;'\\\u{0}zxcvbnm,./",
    shifted: "~!@#$%^&*()_+QWERTYUIOP{}ASDFGHJKL:\"|\u{0}ZXCVBNM<>?",
    third: "",
};
const GERMAN: Rows = Rows {
    plain: "^1234567890ß´qwertzuiopü+asdfghjklöä#<yxcvbnm,.-",
    shifted: "°!\"§$%&/()=?`QWERTZUIOPÜ*ASDFGHJKLÖÄ'>YXCVBNM;:_",
    third: "       {[]}\\ @ €        ~            |      µ",
};
const FRENCH: Rows = Rows {
    plain: "²&é\"'(-è_çà)=azertyuiop^$qsdfghjklmù*<wxcvbn,;:!",
    shifted: " 1234567890°+AZERTYUIOP¨£QSDFGHJKLM%µ>WXCVBN?./§",
    third: "  ~#{[|`\\^@]}  €",
};
const SWEDISH: Rows = Rows {
    plain: "§1234567890+´qwertyuiopå¨asdfghjklöä'<zxcvbnm,.-",
    shifted: "½!\"#¤%&/()=?`QWERTYUIOPÅ^ASDFGHJKLÖÄ*>ZXCVBNM;:_",
    third: "  @£$€ {[]}\\   €         ~            |      µ",
};
const SPACE_BAR: u8 = 48;

impl Layout {
    pub(crate) const ALL: [Layout; 4] =
        [Layout::Us, Layout::German, Layout::French, Layout::Swedish];

    pub(crate) fn named(code: &str) -> Option<Layout> {
        Self::ALL.into_iter().find(|l| l.code() == code)
    }
    pub(crate) fn code(self) -> &'static str {
        match self {
            Layout::Us => "us",
            Layout::German => "de",
            Layout::French => "fr",
            Layout::Swedish => "se",
        }
    }
    pub(crate) fn word(self) -> &'static str {
        match self {
            Layout::Us => "US English",
            Layout::German => "German",
            Layout::French => "French",
            Layout::Swedish => "Swedish",
        }
    }
    pub(crate) fn next(self) -> Layout {
        let at = Self::ALL.iter().position(|l| *l == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
    fn rows(self) -> &'static Rows {
        match self {
            Layout::Us => &US,
            Layout::German => &GERMAN,
            Layout::French => &FRENCH,
            Layout::Swedish => &SWEDISH,
        }
    }

    /// Where on this keyboard a key symbol is, and whether with shift or the third level.
    pub(crate) fn place(self, symbol: u32) -> Option<(Place, bool, bool)> {
        if let Some(place) = control(symbol) {
            return Some((place, false, false));
        }
        // Latin-1 symbols are their own characters; others are marked by the high byte.
        let code = if symbol & 0xff00_0000 == 0x0100_0000 {
            symbol & 0x00ff_ffff
        } else {
            symbol
        };
        let c = match code {
            0x20ac => '€',
            code => char::from_u32(code)?,
        };
        if c == ' ' {
            return Some((Place::Char(SPACE_BAR), false, false));
        }
        let rows = self.rows();
        let levels = [
            (rows.plain, false, false),
            (rows.shifted, true, false),
            (rows.third, false, true),
        ];
        levels.into_iter().find_map(|(row, shift, third)| {
            let at = row.chars().position(|k| k == c && k != '\u{0}')?;
            Some((Place::Char(u8::try_from(at).ok()?), shift, third))
        })
    }

    /// What a place types on this keyboard.
    pub(crate) fn character(self, place: Place, shift: bool, third: bool) -> Option<char> {
        let Place::Char(at) = place else { return None };
        if at == SPACE_BAR {
            return Some(' ');
        }
        let rows = self.rows();
        let row = match (shift, third) {
            (_, true) => rows.third,
            (true, _) => rows.shifted,
            _ => rows.plain,
        };
        row.chars()
            .nth(usize::from(at))
            .filter(|c| !matches!(c, ' ' | '\u{0}'))
    }
}

/// Keys that are at the same place on every keyboard.
fn control(symbol: u32) -> Option<Place> {
    Some(match symbol {
        0xff08 => Place::Backspace,
        0xff09 => Place::Tab,
        0xff0d | 0xff8d => Place::Enter,
        0xff1b => Place::Escape,
        0xffff | 0xff9f => Place::Delete,
        0xffe1 | 0xffe2 => Place::Shift,
        0xffe3 | 0xffe4 => Place::Ctrl,
        0xffe9 | 0xffea => Place::Alt,
        0xfe03 => Place::AltGr,
        0xffeb | 0xffec => Place::Super,
        0xffbe..=0xffc9 => Place::F(u8::try_from(symbol - 0xffbd).unwrap_or(1)),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_of_every_keyboard_comes_back_as_itself() {
        for layout in Layout::ALL {
            let rows = layout.rows();
            assert_eq!(rows.plain.chars().count(), 48, "{layout:?}");
            assert_eq!(rows.shifted.chars().count(), 48, "{layout:?}");
            for c in rows
                .plain
                .chars()
                .chain(rows.shifted.chars())
                .chain(rows.third.chars())
            {
                if c == '\u{0}' {
                    continue;
                }
                let (place, shift, third) = layout.place(u32::from(c)).unwrap();
                assert_eq!(
                    layout.character(place, shift, third),
                    Some(c),
                    "{layout:?} {c}"
                );
            }
        }
    }

    #[test]
    fn symbols_beyond_latin_1_are_marked() {
        assert!(Layout::German.place(0x0100_20ac).is_some(), "the euro sign");
        assert_eq!(Layout::Us.place(0x0100_4e2d), None, "on no key");
        assert_eq!(Layout::Us.place(0xffbf), Some((Place::F(2), false, false)));
    }
}

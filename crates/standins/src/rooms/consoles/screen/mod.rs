//! A guest's graphical screen: what stands on it, and what keys and the pointer do to it.   Start at [`Screen`].
//!
//! `keys` turns key symbols into places on a keyboard and places into characters, `paint` draws, `rfb` speaks the remote
//! framebuffer protocol (RFC 6143) to whoever looks.

mod keys;
mod paint;
mod rfb;

pub(crate) use keys::Layout;
pub(crate) use paint::{HEIGHT, WIDTH, paint, png};
pub(crate) use rfb::{Told, serve};

use keys::Place;
use std::collections::BTreeSet;

/// The most that is kept of what somebody types on the screen.
const MOST: usize = 600;

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Field {
    #[default]
    Name,
    Password,
}

/// What somebody did at the screen: the part of a guest that its graphical screen shows.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Screen {
    /// The guest's own idea of its keyboard.
    layout: Layout,
    down: BTreeSet<Place>,
    field: Field,
    name: String,
    password: usize,
    signed_in: bool,
    /// What was typed after signing in.
    text: String,
    pointer: (u16, u16),
    pressed: bool,
    /// The second screen shows the text console.
    text_screen: bool,
}

/// What keys can make a guest do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wish {
    Restart,
}

/// What a screen shows besides what was typed there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Scene {
    /// Firmware, loader, kernel, an installer: lines of text.
    Lines(Vec<String>),
    /// A person can sign in; the guest's time of day in whole seconds.
    Up { name: String, clock: String },
    /// The kernel has stopped.
    Crashed(Vec<String>),
}

impl Screen {
    /// A place on the keyboard goes down or up.
    pub(crate) fn key(&mut self, place: Place, down: bool) -> Option<Wish> {
        if !down {
            self.down.remove(&place);
            return None;
        }
        self.down.insert(place);
        if self.is_down(Place::Ctrl) && self.is_down(Place::Alt) {
            match place {
                Place::Delete => return Some(Wish::Restart),
                Place::F(1) => self.text_screen = false,
                Place::F(2) => self.text_screen = true,
                _ => {}
            }
            return None;
        }
        match place {
            Place::F(2) if !self.signed_in => self.layout = self.layout.next(),
            Place::Tab if !self.signed_in => self.turn(),
            Place::Enter => self.enter(),
            Place::Backspace => self.rub_out(),
            Place::Char(_) => self.character(place),
            _ => {}
        }
        None
    }

    /// A key symbol: the modifiers that its character needs are held for it, whatever else is held (RFC 6143, section
    /// 7.5.4), on the keyboard that the viewer says the guest has.
    pub(crate) fn symbol(&mut self, layout: Layout, symbol: u32, down: bool) -> Option<Wish> {
        let (place, shift, third) = layout.place(symbol)?;
        let typed = matches!(place, Place::Char(_)) && !self.is_down(Place::Ctrl);
        if !typed || !down {
            return self.key(place, down);
        }
        let held = self.down.clone();
        for (needed, modifier) in [(shift, Place::Shift), (third, Place::AltGr)] {
            if needed {
                self.down.insert(modifier);
            } else {
                self.down.remove(&modifier);
            }
        }
        let wish = self.key(place, true);
        self.down = held;
        self.down.insert(place);
        wish
    }

    fn is_down(&self, place: Place) -> bool {
        self.down.contains(&place)
    }

    fn character(&mut self, place: Place) {
        let (shift, third) = (self.is_down(Place::Shift), self.is_down(Place::AltGr));
        let Some(c) = self.layout.character(place, shift, third) else {
            return;
        };
        match (self.signed_in, self.field) {
            (true, _) if self.text.len() < MOST => self.text.push(c),
            (false, Field::Name) if self.name.len() < 24 => self.name.push(c),
            (false, Field::Password) if self.password < 24 => self.password += 1,
            _ => {}
        }
    }

    fn enter(&mut self) {
        match (self.signed_in, self.field) {
            (true, _) if self.text.len() < MOST => self.text.push('\n'),
            (true, _) => {}
            (false, Field::Name) => self.turn(),
            (false, Field::Password) => self.sign_in(),
        }
    }

    fn turn(&mut self) {
        self.field = match self.field {
            Field::Name => Field::Password,
            Field::Password => Field::Name,
        };
    }

    /// A simulated guest lets everybody in who has a name.
    fn sign_in(&mut self) {
        self.signed_in = !self.name.is_empty();
        self.field = Field::Name;
    }

    fn rub_out(&mut self) {
        match (self.signed_in, self.field) {
            (true, _) => drop(self.text.pop()),
            (false, Field::Name) => drop(self.name.pop()),
            (false, Field::Password) => self.password = self.password.saturating_sub(1),
        }
    }

    pub(crate) fn point(&mut self, x: u16, y: u16, pressed: bool) {
        self.pointer = (x.min(WIDTH - 1), y.min(HEIGHT - 1));
        let clicked = pressed && !self.pressed;
        self.pressed = pressed;
        if clicked && !self.signed_in {
            match paint::hit(self.pointer) {
                Some(paint::Spot::Field(field)) => self.field = field,
                Some(paint::Spot::Button) => self.sign_in(),
                None => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn type_all(screen: &mut Screen, ours: Layout, text: &str) {
        for c in text.chars() {
            screen.symbol(ours, u32::from(c), true);
            screen.symbol(ours, u32::from(c), false);
        }
    }

    #[test]
    fn somebody_signs_in_by_keys_and_types() {
        let mut s = Screen::default();
        type_all(&mut s, Layout::Us, "ann");
        s.key(Place::Tab, true);
        type_all(&mut s, Layout::Us, "Secret!");
        assert_eq!(
            (s.name.as_str(), s.password),
            ("ann", 7),
            "only its length is kept"
        );
        s.key(Place::Enter, true);
        type_all(&mut s, Layout::Us, "Hello, World!");
        assert_eq!(s.text, "Hello, World!");
        assert_eq!(s.key(Place::F(2), true), None);
        assert_eq!(s.layout, Layout::Us, "not while somebody is signed in");
    }

    #[test]
    fn a_keyboard_other_than_the_guests_types_other_characters() {
        let mut s = Screen {
            signed_in: true,
            layout: Layout::German,
            ..Screen::default()
        };
        type_all(&mut s, Layout::Us, "zy[");
        assert_eq!(s.text, "yzü", "places count, not characters");
        s.text.clear();
        type_all(&mut s, Layout::German, "zy[@ß");
        assert_eq!(s.text, "zy[@ß", "the same keyboard at both ends");
    }

    #[test]
    fn combinations_reach_the_guest() {
        let mut s = Screen::default();
        s.key(Place::Ctrl, true);
        s.key(Place::Alt, true);
        s.key(Place::F(2), true);
        assert!(s.text_screen);
        assert_eq!(s.key(Place::Delete, true), Some(Wish::Restart));
        s.key(Place::F(1), true);
        assert!(!s.text_screen);
    }
}

//! Colours and faces: those of the console, paper by day and night by lamplight, and a stark one where the system asks for high
//! contrast. Sizes follow the system's font; movement follows its wish, too.

use crate::keys::Theme;
use gtk4::{CssProvider, Settings, gdk};
use std::cell::Cell;
use std::rc::Rc;

/// The colours that the style sheet and the rows use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Colours {
    paper: &'static str,
    page: &'static str,
    rule: &'static str,
    ink: &'static str,
    faint: &'static str,
    accent: &'static str,
    chosen: &'static str,
    warning: &'static str,
    /// The ground and the ink of what meets the query.
    pub mark: (&'static str, &'static str),
}

const PAPER: Colours = Colours {
    paper: "#fbf8f0",
    page: "#f3eddf",
    rule: "#dfd5bf",
    ink: "#2a2823",
    faint: "#55503f",
    accent: "#2f4b7c",
    chosen: "#e4e2e6",
    warning: "#8a5a00",
    mark: ("#f2dc8c", "#2a2823"),
};

const NIGHT: Colours = Colours {
    paper: "#1d2026",
    page: "#16181d",
    rule: "#363b46",
    ink: "#e8e2d4",
    faint: "#b3ac9a",
    accent: "#a9c0ee",
    chosen: "#30384a",
    warning: "#e7b75a",
    mark: ("#6b5a1c", "#fdf6dc"),
};

const STARK: Colours = Colours {
    paper: "#ffffff",
    page: "#ffffff",
    rule: "#000000",
    ink: "#000000",
    faint: "#000000",
    accent: "#0000a0",
    chosen: "#ffff66",
    warning: "#800000",
    mark: ("#000000", "#ffffff"),
};

const STARK_NIGHT: Colours = Colours {
    paper: "#000000",
    page: "#000000",
    rule: "#ffffff",
    ink: "#ffffff",
    faint: "#ffffff",
    accent: "#66ccff",
    chosen: "#333399",
    warning: "#ffcc00",
    mark: ("#ffffff", "#000000"),
};

impl Colours {
    /// Those that a theme means on this system.
    fn of(theme: Theme, settings: &Settings) -> Self {
        let name = settings.gtk_theme_name().map(|name| name.to_lowercase()).unwrap_or_default();
        let dark = settings.is_gtk_application_prefer_dark_theme()
            || ["dark", "inverse", "night"].iter().any(|word| name.contains(word));
        let night = match theme {
            Theme::Auto => dark,
            Theme::Paper => false,
            Theme::Night => true,
        };
        match (name.contains("contrast"), night) {
            (true, true) => STARK_NIGHT,
            (true, false) => STARK,
            (false, true) => NIGHT,
            (false, false) => PAPER,
        }
    }

    fn style_sheet(&self) -> String {
        let Self { paper, page, rule, ink, faint, accent, chosen, warning, .. } = self;
        format!(
            "window.yadori {{ background: {page}; color: {ink}; }}
             .yadori .frame {{ border: 1px solid {rule}; background: {page}; }}
             .yadori entry {{ background: {paper}; color: {ink}; border: none; border-bottom: 1px solid {rule};
                border-radius: 0; outline: none; box-shadow: none; padding: 6px 10px; min-height: 2em;
                caret-color: {accent}; }}
             .yadori entry:focus-within {{ outline: none; box-shadow: inset 0 -2px {accent}; }}
             .yadori entry > text > placeholder {{ color: {faint}; opacity: 1; }}
             .yadori entry > image {{ color: {faint}; }}
             .yadori list {{ background: {paper}; color: {ink}; }}
             .yadori row {{ padding: 6px 10px 6px 6px; border-bottom: 1px solid {rule}; background: {paper};
                color: {ink}; outline: none; }}
             .yadori row:selected {{ background: {chosen}; color: {ink}; box-shadow: inset 3px 0 {accent}; }}
             .yadori row.dealt {{ color: {faint}; }}
             .yadori .digit {{ color: {accent}; font-weight: 600; font-feature-settings: 'tnum';
                min-width: 1.3em; }}
             .yadori .time, .yadori .remark, .yadori .hint {{ color: {faint}; font-size: 0.86em; }}
             .yadori .time {{ font-feature-settings: 'tnum'; min-width: 4em; }}
             .yadori .title {{ font-weight: 600; }}
             .yadori .heading {{ color: {faint}; background: {page}; font-size: 0.86em; font-weight: 600;
                padding: 6px 10px 4px 10px; border-bottom: 1px solid {rule}; }}
             .yadori .banner {{ background: {page}; color: {warning}; padding: 6px 10px;
                border-bottom: 1px solid {rule}; font-weight: 600; }}
             .yadori .foot {{ background: {page}; padding: 5px 10px; border-top: 1px solid {rule}; }}
             .yadori .said {{ color: {ink}; }}
             .yadori .key {{ color: {accent}; font-weight: 600; }}
             .yadori .panel {{ background: {paper}; color: {ink}; padding: 10px; }}
             .yadori .panel textview, .yadori .panel textview text {{ background: {paper}; color: {ink}; }}
             .yadori .panel entry {{ border: 1px solid {faint}; border-radius: 4px; }}
             .yadori picture {{ border: 1px solid {rule}; background: {page}; }}
             .yadori scrolledwindow undershoot {{ background: none; }}"
        )
    }
}

/// The look of the window, which follows the system.
pub struct Look {
    colours: Rc<Cell<Colours>>,
}

impl Look {
    /// Dresses the windows of the display that is there.
    pub fn new(theme: Theme) -> Self {
        let provider = CssProvider::new();
        let colours = Rc::new(Cell::new(PAPER));
        if let (Some(display), Some(settings)) = (gdk::Display::default(), Settings::default()) {
            gtk4::style_context_add_provider_for_display(
                &display,
                &provider,
                gtk4::STYLE_PROVIDER_PRIORITY_APPLICATION,
            );
            let dressed = colours.clone();
            let dress = move |settings: &Settings| {
                dressed.set(Colours::of(theme, settings));
                provider.load_from_data(&dressed.get().style_sheet());
            };
            dress(&settings);
            let again = dress.clone();
            settings.connect_gtk_theme_name_notify(move |settings| again(settings));
            settings.connect_gtk_application_prefer_dark_theme_notify(dress);
        }
        Self { colours }
    }

    /// The colours in force.
    pub fn colours(&self) -> Colours {
        self.colours.get()
    }
}

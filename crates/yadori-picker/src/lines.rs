//! Some lines of text in a row, cut off where there is no more room.
//!
//! GTK's label finds out how wide it would like to be by laying its text out at many widths, which takes most of the time of a
//! list that is made anew with every letter. These lines are as wide as they may be, and are laid out once.

use gtk4::prelude::*;
use gtk4::subclass::prelude::ObjectSubclassIsExt;
use gtk4::{glib, pango};

mod imp {
    use gtk4::prelude::*;
    use gtk4::subclass::prelude::*;
    use gtk4::{glib, pango};
    use std::cell::{Cell, OnceCell};

    #[derive(Default)]
    pub struct Lines {
        pub layout: OnceCell<pango::Layout>,
        /// The width for which the text is laid out, in pixels.
        pub width: Cell<Option<i32>>,
        /// The version of the font settings with which it was.
        pub serial: Cell<u32>,
    }

    #[glib::object_subclass]
    impl ObjectSubclass for Lines {
        const NAME: &'static str = "YadoriLines";
        type Type = super::Lines;
        type ParentType = gtk4::Widget;

        fn class_init(class: &mut Self::Class) {
            class.set_css_name("label");
        }
    }

    impl ObjectImpl for Lines {}

    impl Lines {
        /// The text, laid out for a width.
        fn laid_out(&self, width: i32) -> Option<&pango::Layout> {
            let layout = self.layout.get()?;
            let serial = layout.context().serial();
            if self.width.replace(Some(width)) != Some(width) || self.serial.replace(serial) != serial {
                layout.set_width(width.saturating_mul(pango::SCALE));
            }
            Some(layout)
        }
    }

    impl WidgetImpl for Lines {
        fn request_mode(&self) -> gtk4::SizeRequestMode {
            gtk4::SizeRequestMode::HeightForWidth
        }

        fn measure(&self, orientation: gtk4::Orientation, for_size: i32) -> (i32, i32, i32, i32) {
            if orientation == gtk4::Orientation::Horizontal {
                return (0, 0, -1, -1);
            }
            // Without a width, nobody will see it.
            let height = match self.laid_out(for_size).filter(|_| for_size > 0) {
                Some(layout) => layout.pixel_size().1,
                None => 0,
            };
            (height, height, -1, -1)
        }

        fn snapshot(&self, snapshot: &gtk4::Snapshot) {
            let widget = self.obj();
            if let Some(layout) = self.laid_out(WidgetExt::width(&*widget)) {
                snapshot.append_layout(layout, &widget.style_context().color());
            }
        }
    }
}

glib::wrapper! {
    /// Some lines of text.
    pub struct Lines(ObjectSubclass<imp::Lines>)
        @extends gtk4::Widget,
        @implements gtk4::Buildable, gtk4::ConstraintTarget;
}

impl Lines {
    /// At most so many lines of this text, which is markup; styled by this class.
    pub fn new(markup: &str, most: i32, class: &str) -> Self {
        let lines: Self =
            glib::Object::builder().property("hexpand", true).property("overflow", gtk4::Overflow::Hidden).build();
        lines.add_css_class(class);
        let layout = lines.create_pango_layout(None);
        layout.set_markup(markup);
        layout.set_wrap(pango::WrapMode::WordChar);
        layout.set_ellipsize(pango::EllipsizeMode::End);
        // Lines, rather than pixels, are counted downwards from zero.
        layout.set_height(-most);
        let _ = lines.imp().layout.set(layout);
        lines
    }
}

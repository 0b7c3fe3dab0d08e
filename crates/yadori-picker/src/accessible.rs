//! What screen readers call a widget. GTK has had the function since 4.0; the binding offers it only from 4.10 on, and Debian 12
//! has 4.8.

use gtk4::glib::translate::{IntoGlib, ToGlibPtr};
use gtk4::glib::{Value, gobject_ffi};
use gtk4::prelude::*;
use gtk4::{AccessibleProperty, Widget, ffi};
use std::ffi::{c_int, c_void};

unsafe extern "C" {
    fn gtk_accessible_update_property_value(
        accessible: *mut c_void,
        count: c_int,
        properties: *mut ffi::GtkAccessibleProperty,
        values: *const gobject_ffi::GValue,
    );
}

/// Has screen readers call a widget so.
pub fn name(widget: &impl IsA<Widget>, name: &str) {
    let mut property = AccessibleProperty::Label.into_glib();
    let value: Value = name.to_value();
    // SAFETY: the widget is alive, every widget is a GtkAccessible, and one property and one value are passed, both of which outlive the call. GTK copies the
    // value (gtkaccessible.c, gtk_accessible_update_property_value).
    unsafe {
        gtk_accessible_update_property_value(
            widget.upcast_ref::<Widget>().as_ptr().cast(),
            1,
            &raw mut property,
            value.to_glib_none().0,
        );
    }
}

/// Has screen readers hear when the name of a widget changes, even if none has come across the widget. The widget must be in a
/// window that has been shown.
///
/// GTK makes the counterpart of a widget on the accessibility bus only when somebody asks for it; until then its changes are
/// told to nobody. A change of what can have the keyboard makes it at once (gtkatcontext.c, gtk_at_context_platform_changed).
pub fn present(widget: &impl IsA<Widget>) {
    widget.set_focusable(true);
    widget.set_focusable(false);
}

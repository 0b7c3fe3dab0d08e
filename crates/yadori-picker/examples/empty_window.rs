//! The limit that the picker's opening is measured beside: an empty window of the same toolkit, as large as the picker,
//! which shows and hides itself whenever it reads a line.

use gtk4::prelude::*;
use gtk4::{Application, ApplicationWindow, gio, glib};
use std::io::BufRead;

fn main() -> glib::ExitCode {
    // As the picker chooses it.
    // SAFETY: no other thread runs yet.
    unsafe { std::env::set_var("GSK_RENDERER", "cairo") };
    let application = Application::builder().flags(gio::ApplicationFlags::NON_UNIQUE).build();
    application.connect_activate(|application| {
        let window = ApplicationWindow::builder().application(application).default_width(460).default_height(560);
        let window = window.decorated(false).build();
        let (sender, lines) = async_channel::unbounded();
        std::thread::spawn(move || {
            for line in std::io::stdin().lock().lines() {
                if line.is_err() || sender.send_blocking(()).is_err() {
                    break;
                }
            }
        });
        glib::spawn_future_local(async move {
            while lines.recv().await.is_ok() {
                if window.is_visible() { window.set_visible(false) } else { window.present() }
            }
            window.close();
        });
    });
    application.run()
}

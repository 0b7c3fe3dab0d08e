//! What stands in place of the list for a while: the keys, a whole clip, ways to reshape it, questions that it asks.

use crate::accessible;
use crate::keys::{Act, KeyMap};
use gtk4::prelude::*;
use gtk4::{
    Align, Button, Entry, Grid, Label, ListBox, ListBoxRow, Orientation, Picture, ScrolledWindow, TextView, gdk,
};
use yadori_api::{ClipDetail, Problem, Way};

/// Something to be shown in place of the list, and what has the keyboard in it.
pub struct Panel {
    pub content: gtk4::Widget,
    pub focus: gtk4::Widget,
}

fn text(text: &str, class: &str) -> Label {
    let label = Label::builder().label(text).xalign(0.0).wrap(true).build();
    label.add_css_class(class);
    label
}

fn scrolled(content: &impl IsA<gtk4::Widget>) -> ScrolledWindow {
    ScrolledWindow::builder().child(content).hscrollbar_policy(gtk4::PolicyType::Never).vexpand(true).build()
}

/// All keys and what they do.
pub fn help(keys: &KeyMap) -> Panel {
    let grid = Grid::builder().column_spacing(14).row_spacing(5).build();
    grid.add_css_class("panel");
    let fixed = [
        ("1 … 9, 0", "paste one of the first ten (with Alt, while you search)"),
        ("↑ ↓", "choose another one"),
        ("Page Up, Page Down", "leaf through"),
        ("Home, End", "go to the first or the last"),
    ];
    let shown = (fixed.iter().map(|(keys, does)| ((*keys).to_owned(), *does)))
        .chain(Act::ALL.iter().map(|act| (keys.label(*act), act.description())))
        .chain([("Escape".to_owned(), "close")]);
    for (row, (keys, does)) in (0..).zip(shown) {
        grid.attach(&text(&keys, "key"), 0, row, 1, 1);
        grid.attach(&text(does, "text"), 1, row, 1, 1);
    }
    let rows = i32::try_from(Act::ALL.len() + fixed.len() + 1).unwrap_or(i32::MAX);
    grid.attach(
        &text("Type to search: words, \"exact words\", -without, kind:link, app:writer, is:pinned, after:3d …", "hint"),
        0,
        rows,
        2,
        1,
    );
    grid.attach(&text("Change the keys in picker.toml, beside config.toml.", "hint"), 0, rows + 1, 2, 1);
    let content = scrolled(&grid);
    content.set_focusable(true);
    accessible::name(&content, "Keys");
    Panel { focus: content.clone().upcast(), content: content.upcast() }
}

/// The whole of a clip.
pub fn whole(detail: &ClipDetail, picture: Option<&gdk::Texture>) -> Panel {
    if let Some(texture) = picture {
        let picture = Picture::for_paintable(texture);
        picture.set_can_shrink(true);
        picture.set_focusable(true);
        picture.set_vexpand(true);
        picture.set_alternative_text(Some(&detail.clip.preview));
        return Panel { focus: picture.clone().upcast(), content: picture.upcast() };
    }
    let words = match (&detail.text, detail.files.as_slice()) {
        (Some(text), _) if detail.text_is_whole => text.clone(),
        (Some(text), _) => format!("{text}\n\n… and more; open it in the console to read on."),
        (None, []) => detail.clip.preview.clone(),
        (None, files) => {
            let line = |file: &yadori_api::FileInfo| match file.missing {
                Some(true) => format!("{} (not there any more)", file.path),
                _ => file.path.clone(),
            };
            files.iter().map(line).collect::<Vec<_>>().join("\n")
        }
    };
    let view = TextView::builder()
        .editable(false)
        .cursor_visible(true)
        .wrap_mode(gtk4::WrapMode::WordChar)
        .monospace(false)
        .build();
    view.buffer().set_text(&words.replace('\0', "\u{fffd}"));
    view.buffer().place_cursor(&view.buffer().start_iter());
    accessible::name(&view, "The whole clip");
    let content = scrolled(&view);
    content.add_css_class("panel");
    Panel { focus: view.upcast(), content: content.upcast() }
}

/// Ways to reshape, those that were used last first; `choose` is told the one that is chosen.
pub fn ways(ways: &[Way], recent: &[String], choose: impl Fn(&str) + 'static) -> Panel {
    let place = |way: &Way| recent.iter().position(|name| *name == way.name).unwrap_or(usize::MAX);
    let mut sorted: Vec<Way> = ways.to_vec();
    sorted.sort_by_key(place);
    let list = ListBox::new();
    for way in &sorted {
        let line = gtk4::Box::new(Orientation::Vertical, 1);
        line.append(&text(&way.name, "title"));
        line.append(&text(&way.does, "remark"));
        let row = ListBoxRow::builder().child(&line).build();
        accessible::name(&row, &format!("{}: {}", way.name, way.does));
        list.append(&row);
    }
    list.select_row(list.row_at_index(0).as_ref());
    accessible::name(&list, "Ways to reshape");
    list.connect_row_activated(move |_, row| {
        if let Some(way) = usize::try_from(row.index()).ok().and_then(|index| sorted.get(index)) {
            choose(&way.name);
        }
    });
    let focus = list.row_at_index(0).map_or_else(|| list.clone().upcast(), Cast::upcast);
    Panel { content: scrolled(&list).upcast(), focus }
}

/// Fields for what the placeholders of a clip ask for; `answer` is told all answers together.
pub fn questions(problem: &Problem, answer: impl Fn(Vec<(String, String)>) + 'static) -> Panel {
    let form = gtk4::Box::new(Orientation::Vertical, 6);
    form.add_css_class("panel");
    form.append(&text("Fill in the gaps", "title"));
    let mut fields = Vec::new();
    for name in &problem.asks {
        let field = Entry::builder().text(problem.usual.get(name).map_or("", String::as_str)).build();
        accessible::name(&field, name);
        form.append(&text(name, "remark"));
        form.append(&field);
        fields.push((name.clone(), field));
    }
    let paste = Button::builder().label("Paste").halign(Align::Start).build();
    form.append(&paste);
    let answered = fields.clone();
    let answer = std::rc::Rc::new(move || {
        answer(answered.iter().map(|(name, field)| (name.clone(), field.text().to_string())).collect());
    });
    let pressed = answer.clone();
    paste.connect_clicked(move |_| pressed());
    for (index, (_, field)) in fields.iter().enumerate() {
        let next = fields.get(index + 1).map(|(_, field)| field.clone());
        let answer = answer.clone();
        field.connect_activate(move |_| match &next {
            Some(next) => drop(next.grab_focus()),
            None => answer(),
        });
    }
    let focus = fields.first().map_or_else(|| paste.clone().upcast(), |(_, field)| field.clone().upcast());
    Panel { content: scrolled(&form).upcast(), focus }
}

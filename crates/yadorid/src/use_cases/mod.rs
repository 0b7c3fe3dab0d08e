//! What a person or a program can ask for, one file each; and `listing`, how a clip is shown.

pub mod add;
pub mod bin;
pub mod capture;
pub mod delete;
pub mod devices;
pub mod drawers;
pub mod edit;
pub mod expand;
pub mod export;
pub mod files;
pub mod find;
pub mod forget;
pub mod import;
pub mod keep;
pub mod listing;
pub mod names;
pub mod pause;
pub mod recall;
pub mod rules;
pub mod sessions;
pub mod sharing;
pub mod show;
pub mod stats;
pub mod status;
pub mod tray;
pub mod undo;

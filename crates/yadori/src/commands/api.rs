use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use serde::Serialize;
use yadori_client::places;

/// Tell where the HTTP interface is, for other programs
///
/// Prints its address, the file with the header that lets a program in, and a line for curl that uses both. The interface
/// is described in docs/http.md, and by itself at /openapi.json.
#[derive(Args)]
pub struct Api {
    /// Print the address only
    #[arg(long, conflicts_with = "header")]
    url: bool,

    /// Print the path of the file with the header only: curl -H @FILE
    #[arg(long)]
    header: bool,
}

/// Where the interface is.
#[derive(Serialize)]
struct Reached {
    url: String,
    header_file: String,
}

impl Api {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        // That it answers is part of what is told.
        let _: yadori_api::Status = service.get("/status")?;
        let header_file = places(context.home.as_deref())?.authorization().display().to_string();
        let reached = Reached { url: service.url(), header_file };
        if context.json {
            return print_json(&reached);
        }
        let Reached { url, header_file } = &reached;
        match (self.url, self.header) {
            (true, _) => say(url),
            (_, true) => say(header_file),
            _ => {
                say(url)?;
                say(&format!("curl -H @{header_file} {url}/status"))
            }
        }
    }
}

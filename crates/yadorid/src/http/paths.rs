//! Which handler answers what.
//!
//! Each handler says its path and its method itself (`utoipa::path`), so that whoever is answered and what is described are the
//! same. The description is made when somebody asks for it: few ever do, and a start need not wait for it.

use super::{
    App, changing, clips, content, control, devices, events, forgetting, kept, keys, lock, moving, private_drawers,
    rules, simulated, tray,
};
use axum::Router;
use axum::handler::Handler;
use axum::routing::{MethodFilter, MethodRouter};
use utoipa::openapi::HttpMethod;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{OpenApi, Path};

/// Takes the handlers of each module.
macro_rules! paths {
    ($($module:ident: $($handler:ident),+;)+) => {
        #[derive(OpenApi)]
        #[openapi(
            info(title = "Yadori", description = "The history of what a person copies, on their own computer."),
            components(schemas(yadori_api::Problem, yadori_api::ClipChange, yadori_api::PartChange, yadori_api::Part, yadori_api::ExportForm)),
            security(("token" = [])),
            paths($($($module::$handler),+),+)
        )]
        struct Document;

        /// The interface.
        pub(super) fn answered() -> Router<App> {
            let mut routes = Router::new();
            $($(
                let answered = pastey::paste!(on::<$module::[<__path_ $handler>], _, _>)($module::$handler);
                routes = routes.route(&answered.0, answered.1);
            )+)+
            Router::new().nest(yadori_api::BASE, routes)
        }
    };
}

paths! {
    clips: list, add, show, recall;
    kept: change_clip, pins, pin, unpin, aliases, drawers, new_drawer, show_drawer, change_drawer,
        remove_drawer, put_into_drawer, take_from_drawers, move_in_drawer, head_drawer, sort_drawer;
    changing: edit, reshape, ways, expand, qr;
    private_drawers: set_drawer_passphrase, remove_drawer_passphrase, open_drawer, close_drawer;
    tray: show_tray, open_tray, close_tray, add_to_tray, arrange_tray, undo_in_tray, restart_tray,
        next_in_tray, back_in_tray, skip_in_tray, pour_tray;
    keys: show_keys, set_keys, set_paste_keys, reset_keys, press_keys, keyboard;
    forgetting: delete, clear, undo, redo, steps, bin, restore_from_bin, empty_bin;
    rules: show_rules, change_rules, preview_rules, test_rules, reset_rules, sweep_now, stats;
    moving: export, import;
    content: content, thumbnail;
    events: events;
    devices: devices, invite, join, leave, device, rename_device, remove_device, send, fetch, sync_status,
        sync_now, pause_sync, resume_sync, show_relay, set_relay, leave_relay, show_policy, change_policy;
    lock: show_lock, lock, change_lock, unlock, set_passphrase, new_recovery_key, add_protector,
        remove_protector, rekey;
    control: status, pause, resume, set_log_in, console_link, door, open_door, close_door, console_sessions,
        shut_out;
    simulated: copy, exit, paste;
}

/// The path that leads to a handler, which is described by `P`, with its methods.
fn on<P: Path, H: Handler<T, App>, T: 'static>(handler: H) -> (String, MethodRouter<App>) {
    let filter = P::methods().iter().map(filter).reduce(MethodFilter::or).expect("a handler has a method");
    (P::path(), axum::routing::on(filter, handler))
}

fn filter(method: &HttpMethod) -> MethodFilter {
    match method {
        HttpMethod::Get => MethodFilter::GET,
        HttpMethod::Put => MethodFilter::PUT,
        HttpMethod::Post => MethodFilter::POST,
        HttpMethod::Head => MethodFilter::HEAD,
        HttpMethod::Patch => MethodFilter::PATCH,
        HttpMethod::Trace => MethodFilter::TRACE,
        HttpMethod::Delete => MethodFilter::DELETE,
        HttpMethod::Options => MethodFilter::OPTIONS,
    }
}

/// What the handlers say of themselves.
pub(super) fn described() -> utoipa::openapi::OpenApi {
    let own = Document::openapi();
    let mut document = utoipa::openapi::OpenApi::new(own.info.clone(), utoipa::openapi::Paths::new());
    document.security.clone_from(&own.security);
    document = document.nest(yadori_api::BASE, own);
    let scheme = HttpBuilder::new()
        .scheme(HttpAuthScheme::Bearer)
        .description(Some("The token of run/api.json; browsers have a cookie instead."));
    document.components.get_or_insert_default().add_security_scheme("token", SecurityScheme::Http(scheme.build()));
    document
}

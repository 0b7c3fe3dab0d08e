//! Who gets in, and who does not.

use super::super::browser::Browser;
use super::Page;
use std::sync::{Arc, Mutex};

/// Another user of this machine serves pages from another port of the same host, and notes what he is sent.
fn serve_from_another_port(requests: Arc<Mutex<String>>) -> std::net::SocketAddr {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let lines = BufReader::new(&stream).lines().map_while(Result::ok).take_while(|line| !line.is_empty());
            let head = lines.collect::<Vec<_>>().join("\n");
            let is_last = head.starts_with("GET /end ");
            requests.lock().unwrap().push_str(&head);
            let page =
                "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\nconnection: close\r\n\r\n<title>another port</title>";
            let _ = (&stream).write_all(page.as_bytes());
            if is_last {
                return;
            }
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_from_another_port_of_this_host_gets_neither_the_cookie_nor_the_history() {
    let page = Page::open(800, 600, |service| drop(service.run(&["add", "private words"]))).await;
    let requests = Arc::<Mutex<String>>::default();
    let address = serve_from_another_port(requests.clone());
    page.browser.driver.goto(&format!("http://{address}/page")).await.unwrap();
    page.browser.until("document.title === 'another port'").await;
    // It asks our service for whatever it can guess, with all that the browser has.
    let own = &page.service().reach.address;
    let read = page
        .browser
        .eval(&format!(
            "const done = await Promise.allSettled(['/', '/api/v1/clips', '/s/x/api/v1/clips'].map(async (path) => {{
                const answer = await fetch('http://{own}' + path, {{ credentials: 'include', mode: 'cors' }});
                return answer.text();
             }}));
             return JSON.stringify(done);"
        ))
        .await;
    assert!(!read.as_str().unwrap().contains("fulfilled"), "{read}");
    page.browser.driver.goto(&format!("http://{address}/end")).await.unwrap();
    page.browser.until("document.title === 'another port'").await;
    let seen = requests.lock().unwrap().to_lowercase();
    assert!(seen.contains("get /page") && !seen.contains("cookie"), "{seen}");
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_sees_a_closed_door() {
    let page = Page::open(800, 600, |_| {}).await;
    let place = page.browser.driver.current_url().await.unwrap();
    let place = place.as_str().trim_end_matches("#/");
    // The cookie is for the path of the session only, the path is of no use without it.
    page.browser.driver.goto(&format!("http://{}/", page.service().reach.address)).await.unwrap();
    assert!(page.browser.eval("return document.body.innerText").await.as_str().unwrap().contains("yadori console"));
    page.browser.devtools("Network.clearBrowserCookies", serde_json::json!({})).await;
    page.browser.driver.goto(place).await.unwrap();
    assert!(page.browser.eval("return document.body.innerText").await.as_str().unwrap().contains("yadori console"));
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_comes_in_over_tls_to_read_search_copy_and_add_and_is_shut_out_again() {
    let page = Page::open(1280, 800, |service| {
        service.run(&["add", "read on the way"]);
        service.run(&["add", "lamp 7"]);
        service.run(&["pin", "1"]);
    })
    .await;
    page.go("#/settings", "Settings").await;
    page.click("Open a door for a phone").await;
    page.says("Scan this with the phone.").await;
    page.check_accessibility("an open door").await;
    page.browser.shot("door").await;
    let door: yadori_api::ConsoleDoor = tokio::task::block_in_place(|| page.service().get("/console-door").json());
    let url = door.url.unwrap();
    let shown = page.browser.eval("return document.querySelector('main').innerText").await;
    assert!(
        shown.as_str().unwrap().contains(&url)
            && shown.as_str().unwrap().contains(door.fingerprint.as_deref().unwrap())
    );

    // The phone's own browser; the person has compared the fingerprint, and gone on.
    let phone = Browser::open_with(360, 740, &["--ignore-certificate-errors"]).await;
    phone.driver.goto(&url).await.unwrap();
    phone.wait("[data-page-title]").await;
    let place =
        phone.eval("localStorage.setItem('yadori-welcomed', 'yes'); location.hash = '#/'; return location.href").await;
    assert!(place.as_str().unwrap().starts_with("https://127."), "{place}");
    phone.until("document.querySelector('article')?.innerText.includes('lamp 7')").await;
    phone.shot("phone-guest").await;
    assert_eq!(phone.eval("return document.documentElement.scrollWidth").await, 360);
    // Reads and searches; what is picked is copied here, and nothing that is not allowed is offered.
    phone.eval("location.hash = '#/?q=way'").await;
    phone.until("document.querySelectorAll('article').length === 1").await;
    phone.until("document.querySelector('[data-entry]').checkVisibility({ visibilityProperty: true })").await;
    phone.eval("document.querySelector('[data-entry]').click()").await;
    phone.until("document.querySelector('article pre')?.innerText === 'read on the way'").await;
    let buttons =
        phone.eval("return [...document.querySelectorAll('article button')].map((e) => e.innerText).join()").await;
    let buttons = buttons.as_str().unwrap();
    assert!(
        buttons.contains("Copy in this browser") && !buttons.contains("Delete") && !buttons.contains("Put on"),
        "{buttons}"
    );
    // Adds, and it arrives on the computer.
    phone.eval("location.hash = '#/add'").await;
    phone.until("document.querySelector('textarea') !== null").await;
    phone.eval("const t = document.querySelector('textarea'); t.value = 'from the phone'; t.dispatchEvent(new Event('input', { bubbles: true })); t.form.requestSubmit()").await;
    phone.until("document.body.innerText.includes('Added “from the phone” to the history.')").await;
    assert!(page.run(&["list"]).contains("from the phone"));
    // It may do no more than that, whatever it asks for.
    let refused = phone
        .eval(
            "return Promise.all([['POST', 'recall'], ['GET', 'export'], ['GET', 'console-sessions'], ['POST', 'console-door'], ['DELETE', 'console-sessions/all']].map(
                async ([method, path]) => (await fetch(`${location.pathname}api/v1/${path}`, { method, body: method === 'POST' ? '{}' : undefined })).status)).then((all) => all.join())",
        )
        .await;
    assert_eq!(refused, "403,403,403,403,403");
    // The page on the computer has seen it come in; the link is used up; nobody else comes in.
    page.says("This browser came in:").await;
    let stranger = Browser::open_with(360, 740, &["--ignore-certificate-errors"]).await;
    stranger.driver.goto(&url).await.unwrap();
    stranger.until("document.body.innerText.includes('This browser is not let in')").await;
    stranger.close().await;
    // The token of the programs is worth nothing there.
    page.click("Close the door").await;
    phone.until("document.body.innerText.includes('The service is away.')").await;
    page.says("Open a door for a phone").await;
    assert_eq!(
        tokio::task::block_in_place(|| page
            .service()
            .get("/console-sessions")
            .json::<Vec<yadori_api::ConsoleSession>>())
        .len(),
        1
    );
    phone.close().await;
    page.finish().await;
}

#[test]
fn the_door_for_a_phone_is_opened_and_closed_at_the_command_line() {
    use yadori_e2e::{home::Home, service::Service};
    let home = Home::new();
    let service = Service::simulated(&home);
    let told = service.run(&["console", "--phone", "--for", "10m"]);
    let door: yadori_api::ConsoleDoor = service.get("/console-door").json();
    assert!(told.contains(door.url.as_deref().unwrap()), "{told}");
    assert!(told.contains("SHA-256") && told.contains("yadori console close phone"), "{told}");
    let left = door.expires_at.unwrap().duration_since(jiff::Timestamp::now()).as_secs();
    assert!((500..=600).contains(&left), "{left}");
    assert!(service.run(&["console", "close", "phone"]).contains("closed"));
    assert!(!service.get("/console-door").json::<yadori_api::ConsoleDoor>().open);
    let (code, told) = service.fail(&["console", "--phone", "--for", "9d"]);
    assert!(code == 1 && told.contains("one minute to one day"), "{code} {told}");
}

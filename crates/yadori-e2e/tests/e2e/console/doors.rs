//! Who gets in, and who does not.

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

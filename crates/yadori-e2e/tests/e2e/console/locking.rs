//! The lock, from the console.

use super::Page;

const PASSPHRASE: &str = "lanterns on the pier";

#[tokio::test(flavor = "multi_thread")]
async fn a_passphrase_is_set_the_history_locked_and_nothing_of_it_is_left_in_the_page() {
    let page = Page::with_sample(1280, 800).await;
    let shown = page.entries().await.remove(0);
    page.go("#/settings", "Settings").await;
    page.says("A key file").await;
    page.says("Set a passphrase to lock the history").await;
    page.browser.shot("settings-protection").await;
    page.click("Set a passphrase…").await;
    page.fill("New passphrase, at least eight characters", PASSPHRASE).await;
    page.fill("Once more", "lanterns on the peer").await;
    page.says("The two are not the same yet.").await;
    page.fill("Once more", PASSPHRASE).await;
    page.check_accessibility("setting a passphrase").await;
    page.browser.shot("set-passphrase").await;
    page.click("Save").await;
    page.says("Saved.").await;
    page.says("Locks itself with the screen").await;
    page.click("Make a recovery key…").await;
    page.fill("Current passphrase, or recovery key", PASSPHRASE).await;
    page.click("Save").await;
    page.says("Write it down now").await;
    let key = page.browser.eval("return document.querySelector('dialog[open] .font-mono').innerText").await;
    page.click("Close").await;
    page.check_accessibility("settings with a passphrase").await;
    page.browser.shot("protection").await;

    page.go("#/", "History").await;
    page.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(shown))).await;
    page.go("#/settings", "Settings").await;
    page.click("Lock now").await;
    page.says("The history is locked").await;
    let text = page.browser.eval("return document.documentElement.outerHTML").await;
    assert!(!text.as_str().unwrap().contains(&shown), "{shown} is still in the page");
    page.check_accessibility("a locked history").await;
    page.browser.shot("locked").await;
    page.fill("Passphrase or recovery key", "lanterns on the peer").await;
    page.click("Unlock").await;
    page.says("hat is neither the passphrase nor the recovery key").await;
    page.fill("Passphrase or recovery key", key.as_str().unwrap()).await;
    page.click("Unlock").await;
    page.browser.until("document.querySelector('h1')?.innerText === 'Settings'").await;
    page.go("#/", "History").await;
    page.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(shown))).await;

    // Everything is encrypted with a new key, and can be read meanwhile.
    page.go("#/settings", "Settings").await;
    page.click("Encrypt everything with a new key…").await;
    page.check_accessibility("a new key").await;
    page.browser.shot("new-key").await;
    page.click("Encrypt").await;
    page.says("It is being encrypted with a new key").await;
    page.check_accessibility("encrypting with a new key").await;
    page.browser.shot("encrypting").await;
    page.go("#/", "History").await;
    page.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(shown))).await;
    page.go("#/settings", "Settings").await;
    page.browser.until("!document.querySelector('progress')").await;
    page.browser.until("document.body.innerText.includes('Encrypt everything with a new key…')").await;
    page.go("#/", "History").await;

    // Locked elsewhere, the page learns of it.
    page.run(&["lock"]);
    page.says("The history is locked").await;
    let answer = tokio::task::block_in_place(|| {
        page.service().post("/lock/open", &serde_json::json!({ "passphrase": PASSPHRASE }))
    });
    assert_eq!(answer.status, 200);
    // And unlocked elsewhere, it opens by itself.
    page.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(shown))).await;
    page.finish_but("api/v1").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drawer_gets_a_passphrase_is_closed_and_opened() {
    let page = Page::with_sample(1280, 800).await;
    page.run(&["drawer", "new", "Bank"]);
    page.run(&["drawer", "put", "Bank", "1", "2"]);
    page.go("#/kept/Bank", "Kept").await;
    let shown = page.entries().await.remove(0);
    page.click("What can be done with the drawer Bank").await;
    page.click("Give it a passphrase…").await;
    page.fill("New passphrase, at least eight characters", PASSPHRASE).await;
    page.fill("Once more", PASSPHRASE).await;
    page.check_accessibility("giving a drawer a passphrase").await;
    page.browser.shot("drawer-passphrase").await;
    page.click("Save").await;
    page.says("closes at").await;
    page.check_accessibility("an open private drawer").await;
    page.browser.shot("drawer-open").await;
    page.click("Close now").await;
    page.says("2 clips lie in it, encrypted.").await;
    page.check_accessibility("a closed drawer").await;
    page.browser.shot("drawer-closed").await;
    page.go("#/", "History").await;
    page.browser.until(&format!("!document.body.innerText.includes({})", serde_json::json!(shown))).await;

    page.go("#/kept/Bank", "Kept").await;
    page.fill("Passphrase of the drawer", "lanterns on the peer").await;
    page.click("Open").await;
    page.says("not the passphrase of the drawer").await;
    page.fill("Passphrase of the drawer", PASSPHRASE).await;
    page.click("Open").await;
    page.says("closes at").await;
    page.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(shown))).await;
    // Closed elsewhere, the page hears of it.
    page.run(&["drawer", "close", "Bank"]);
    page.says("This drawer is closed").await;
    page.click("What can be done with the drawer Bank").await;
    page.click("Erase with all that lies in it…").await;
    page.check_accessibility("erasing a drawer").await;
    page.click("Erase for good").await;
    page.says("Erased the drawer Bank.").await;
    page.finish_but("api/v1").await;
}

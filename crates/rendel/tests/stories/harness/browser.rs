//! A browser, driven as a person would.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use serde_json::json;
use tempfile::TempDir;
use thirtyfour::prelude::*;

use super::{Service, free_port, until};

/// A browser with a driver of its own; both end with the test.
pub(crate) struct Browser {
    pub(crate) web: WebDriver,
    driver: Child,
    _dir: TempDir,
}

impl Browser {
    pub(crate) async fn open(width: u32, height: u32) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let port = free_port();
        let mut driver = Command::new("chromedriver");
        driver
            .arg(format!("--port={port}"))
            .env("TMPDIR", dir.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let driver = driver.spawn().expect("chromedriver is needed; scripts/test installs it");
        let mut wanted = DesiredCapabilities::chrome();
        let profile = format!("--user-data-dir={}", dir.path().join("profile").display());
        for argument in [
            "--headless=new",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--disable-gpu",
            "--hide-scrollbars",
            &profile,
        ] {
            wanted.add_arg(argument).unwrap();
        }
        let address = format!("http://127.0.0.1:{port}");
        let web =
            until("the driver is up", async || WebDriver::new(&address, wanted.clone()).await.ok())
                .await;

        let metrics =
            json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        web.cdp().send_raw("Emulation.setDeviceMetricsOverride", metrics).await.unwrap();
        Self { web, driver, _dir: dir }
    }

    pub(crate) async fn sign_in(&self, service: &Service, path: &str) {
        self.web.goto(format!("{}{path}", service.server)).await.unwrap();
        self.find(By::Id("secret")).await.send_keys(&service.key).await.unwrap();
        self.press("Sign in").await;
        // The page that was asked for shows in place of the form once the service knows the key.
        self.reads("Sign out").await;
    }

    pub(crate) async fn find(&self, by: By) -> WebElement {
        until(&format!("{by:?} is on the page"), async || self.web.find(by.clone()).await.ok())
            .await
    }

    /// Presses the first button with that label.
    pub(crate) async fn press(&self, label: &str) {
        let by =
            By::XPath(format!("//button[normalize-space()='{label}' or @aria-label='{label}']"));
        let button = self.find(by).await;
        until(&format!("{label} can be pressed"), async || {
            button.is_enabled().await.unwrap().then_some(())
        })
        .await;
        button.click().await.unwrap();
    }

    pub(crate) async fn reads(&self, words: &str) {
        until(&format!("the page says {words:?}"), async || {
            let text = self.web.find(By::Tag("body")).await.ok()?.text().await.ok()?;
            text.contains(words).then_some(())
        })
        .await;
    }

    /// Keeps a picture where that is asked for.
    pub(crate) async fn picture(&self, name: &str) {
        let Some(folder) = std::env::var_os("RENDEL_PICTURES") else { return };
        self.web.execute("return document.fonts.ready.then(() => true)", vec![]).await.unwrap();
        std::fs::create_dir_all(&folder).unwrap();
        let file = PathBuf::from(folder).join(format!("{name}.png"));
        self.web.screenshot(Path::new(&file)).await.unwrap();
    }

    /// Whether nothing of the page reaches beyond its width.
    pub(crate) async fn fits(&self) -> bool {
        let script = "return document.documentElement.scrollWidth <= window.innerWidth";
        self.web.execute(script, vec![]).await.unwrap().json().as_bool().unwrap()
    }

    /// Takes the network away from the page, or gives it back.
    pub(crate) async fn offline(&self, is_offline: bool) {
        let conditions = json!({ "offline": is_offline, "latency": 0, "downloadThroughput": -1,
            "uploadThroughput": -1 });
        self.web.cdp().send_raw("Network.enable", json!({})).await.unwrap();
        self.web.cdp().send_raw("Network.emulateNetworkConditions", conditions).await.unwrap();
    }

    pub(crate) async fn close(mut self) {
        self.web.clone().quit().await.unwrap();
        self.driver.kill().unwrap();
        self.driver.wait().unwrap();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // After a failed test; `close` has ended it otherwise.
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

//! Where an instance of the service keeps its things, and where a client finds it.

use std::path::{Path, PathBuf};

/// The folders of one instance.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Places {
    /// Settings that are needed to start.
    pub config: PathBuf,
    /// Everything that is kept.
    pub data: PathBuf,
    /// What exists while the service runs.
    pub run: PathBuf,
    /// The one folder that holds everything, if there is one.
    pub home: Option<PathBuf>,
}

impl Places {
    /// Everything under one folder.
    pub fn under(home: &Path) -> Self {
        let [config, data, run] = ["config.toml", "data", "run"].map(|name| home.join(name));
        Self { config, data, run, home: Some(home.to_owned()) }
    }

    /// The folder given as `home`, else that of `YADORI_HOME`, else the user's own folders (XDG Base
    /// Directory Specification). `variable` reads the environment.
    ///
    /// Gives `None` when there is not even a home folder.
    pub fn find(home: Option<&Path>, variable: impl Fn(&str) -> Option<PathBuf>) -> Option<Self> {
        let set = |name: &str| variable(name).filter(|path| path.is_absolute());
        if let Some(home) =
            home.map(Path::to_owned).or_else(|| variable("YADORI_HOME").filter(|home| !home.as_os_str().is_empty()))
        {
            return Some(Self::under(&std::path::absolute(&home).unwrap_or(home)));
        }
        let user = set("HOME");
        let below = |name: &str, path: &str| {
            set(name).or_else(|| Some(user.as_ref()?.join(path))).map(|folder| folder.join("yadori"))
        };
        let data = below("XDG_DATA_HOME", ".local/share")?;
        let run = set("XDG_RUNTIME_DIR").map_or_else(|| data.join("run"), |folder| folder.join("yadori"));
        let config = below("XDG_CONFIG_HOME", ".config")?.join("config.toml");
        Some(Self { config, data, run, home: None })
    }

    /// The file with the wrapped keys of what is kept.
    pub fn keyring(&self) -> PathBuf {
        self.data.join("keys.json")
    }

    /// The file with the secret that unwraps them, if no passphrase and no secret service does. It does not lie with what is
    /// kept, so that a copy of that is of no use without it.
    pub fn key_file(&self) -> PathBuf {
        self.config.with_file_name("protector.key")
    }

    /// The socket at which the picker is asked to show itself.
    pub fn picker(&self) -> PathBuf {
        self.run.join("picker.sock")
    }

    /// The file with the header that lets a program in, as curl reads headers.
    pub fn authorization(&self) -> PathBuf {
        self.run.join("api.header")
    }

    /// The file that tells a client the address and the token.
    pub fn reach(&self) -> PathBuf {
        self.run.join("api.json")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn find(home: Option<&str>, variables: &[(&str, &str)]) -> Option<Places> {
        Places::find(home.map(Path::new), |name| {
            variables.iter().find(|(known, _)| *known == name).map(|(_, value)| PathBuf::from(value))
        })
    }

    #[test]
    fn one_folder_holds_everything_when_it_is_named() {
        let under = Places::under(Path::new("/tmp/van"));
        assert_eq!(find(Some("/tmp/van"), &[("YADORI_HOME", "/other")]), Some(under.clone()));
        assert_eq!(find(None, &[("YADORI_HOME", "/tmp/van"), ("HOME", "/home/mira")]), Some(under));
    }

    #[test]
    fn otherwise_the_users_own_folders_are_used() {
        let places = find(None, &[("HOME", "/home/mira"), ("XDG_RUNTIME_DIR", "/run/user/1000")]).unwrap();
        assert_eq!(places.config, Path::new("/home/mira/.config/yadori/config.toml"));
        assert_eq!(places.data, Path::new("/home/mira/.local/share/yadori"));
        assert_eq!(places.reach(), Path::new("/run/user/1000/yadori/api.json"));
        let places = find(None, &[("HOME", "/home/mira"), ("XDG_DATA_HOME", "relative is ignored")]).unwrap();
        assert_eq!(places.run, Path::new("/home/mira/.local/share/yadori/run"));
        assert_eq!(find(None, &[]), None);
    }
}

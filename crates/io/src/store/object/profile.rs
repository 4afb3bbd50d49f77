//! Keys of named profiles, as the files in `~/.aws` have them.

use std::collections::HashMap;
use std::path::PathBuf;

use super::bucket::variable;

/// The settings of a profile, by name.
pub(super) struct Profile(HashMap<String, String>);

impl Profile {
    /// A setting.
    pub(super) fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(String::as_str)
    }
}

/// The profile that the environment names, or the one named `default`; without settings if there is none. What the file of keys
/// says goes before what the file of settings says.
pub(super) fn current() -> Profile {
    let name = variable("AWS_PROFILE").unwrap_or_else(|| "default".to_owned());
    let file = |variable_name: &str, own: &str| {
        let named = variable(variable_name).map(PathBuf::from);
        let path = named.or_else(|| Some(std::env::home_dir()?.join(".aws").join(own)));
        path.and_then(|path| std::fs::read_to_string(path).ok()).unwrap_or_default()
    };
    let mut settings = section(&file("AWS_CONFIG_FILE", "config"), &[&name, &format!("profile {name}")]);
    settings.extend(section(&file("AWS_SHARED_CREDENTIALS_FILE", "credentials"), &[&name]));
    Profile(settings)
}

/// The settings below a heading that is one of some names. Indented lines belong to a setting of several parts: none of those
/// is needed.
fn section(text: &str, names: &[&str]) -> HashMap<String, String> {
    let mut found = HashMap::new();
    let mut is_in = false;
    for line in text.lines() {
        if line.starts_with(['#', ';', ' ', '\t']) {
            continue;
        }
        let line = line.trim();
        if let Some(heading) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            is_in = names.contains(&heading.trim());
        } else if let Some((name, value)) = line.split_once('=').filter(|_| is_in) {
            found.insert(name.trim().to_ascii_lowercase(), value.trim().to_owned());
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const FILE: &str = "# keys\n[default]\naws_access_key_id = A1\naws_secret_access_key=S=1\n\n[ dairy ]\n\
                        AWS_ACCESS_KEY_ID=A2\ns3 =\n  region = nested\nregion = here\n[profile old]\nregion=there\n";

    #[rstest]
    #[case(&["default"], "aws_access_key_id", Some("A1"))]
    #[case(&["default"], "aws_secret_access_key", Some("S=1"))]
    #[case(&["dairy"], "aws_access_key_id", Some("A2"))]
    #[case(&["dairy"], "region", Some("here"))]
    #[case(&["dairy"], "aws_secret_access_key", None)]
    #[case(&["old", "profile old"], "region", Some("there"))]
    #[case(&["new"], "region", None)]
    fn a_profile_has_its_own_settings(
        #[case] names: &[&str],
        #[case] name: &str,
        #[case] value: Option<&str>,
    ) {
        assert_eq!(section(FILE, names).get(name).map(String::as_str), value);
    }
}

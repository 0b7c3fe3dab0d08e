//! Questions to the person at the terminal.

use crate::failure::Failure;
use crate::terminal::{Style, safe};
use std::io::{BufRead, IsTerminal, Write};

/// Asks for a yes. With `yes` it was given beforehand; without a terminal nobody can be asked.
pub fn confirm(question: &str, yes: bool) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage(format!("{question} Can't prompt here; add --yes.")));
    }
    eprint!("{} [y/N] ", Style::of_stderr().broken(question, 0));
    std::io::stderr().flush()?;
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}

/// Asks for something by its name; none without a terminal. A bare Enter is the usual answer, if there is one.
pub fn answer(name: &str, usual: Option<&String>) -> Result<Option<String>, Failure> {
    if !std::io::stdin().is_terminal() {
        return Ok(None);
    }
    match usual {
        Some(usual) => eprint!("{} [{}]: ", safe(name), safe(usual)),
        None => eprint!("{}: ", safe(name)),
    }
    std::io::stderr().flush()?;
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    let answer = answer.trim_end_matches(['\n', '\r']);
    Ok(Some(if answer.is_empty() { usual.cloned().unwrap_or_default() } else { answer.to_owned() }))
}

/// Asks for a secret, which is not shown; without a terminal it is the next line of standard input.
pub fn secret(name: &str) -> Result<String, Failure> {
    if std::io::stdin().is_terminal() {
        return Ok(rpassword::prompt_password(format!("{name}: "))?);
    }
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim_end_matches(['\n', '\r']).to_owned())
}

/// Asks for a new secret, twice at a terminal.
pub fn new_secret(name: &str) -> Result<String, Failure> {
    let given = secret(name)?;
    if std::io::stdin().is_terminal() && secret("Once more")? != given {
        return Err(Failure::Here("the two are not the same; nothing was changed".into()));
    }
    Ok(given)
}

//! Keys for shells: a clip at the cursor.

use crate::failure::Failure;
use clap::{Args, ValueEnum};
use std::io::Write;

/// Print what a shell needs to put clips in at the cursor: Ctrl+X Y picks one, Ctrl+X : expands the alias before it
///
/// For bash, add to ~/.bashrc: eval "$(yadori widget bash)". For zsh, the same in ~/.zshrc. For fish, in
/// ~/.config/fish/config.fish: yadori widget fish | source
#[derive(Args)]
pub struct Widget {
    /// The shell
    shell: Shell,
}

#[derive(Clone, Copy, ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

/// An `x` is written after what is read, so that the shell leaves line ends at the end of it alone.
const BASH: &str = r#"_yadori_pick() {
  local text
  text=$(yadori pick --print "$@" && printf x) || return
  text=${text%x}
  READLINE_LINE=${READLINE_LINE:0:READLINE_POINT}$text${READLINE_LINE:READLINE_POINT}
  READLINE_POINT=$((READLINE_POINT + ${#text}))
}
_yadori_expand() {
  local before=${READLINE_LINE:0:READLINE_POINT} after=${READLINE_LINE:READLINE_POINT} text
  text=$(printf %s "$before" | yadori expand && printf x) || return
  text=${text%x}
  READLINE_LINE=$text$after
  READLINE_POINT=${#text}
}
bind -x '"\C-xy": _yadori_pick'
bind -x '"\C-x:": _yadori_expand'
"#;

const ZSH: &str = r#"_yadori_pick() {
  local text
  if text=$(yadori pick --print </dev/tty && printf x); then
    LBUFFER+=${text%x}
  fi
  zle reset-prompt
}
_yadori_expand() {
  local text
  if text=$(printf %s "$LBUFFER" | yadori expand && printf x); then
    LBUFFER=${text%x}
  fi
}
zle -N _yadori_pick
zle -N _yadori_expand
bindkey '^Xy' _yadori_pick
bindkey '^X:' _yadori_expand
"#;

const FISH: &str = r#"function _yadori_pick
    if set -l text (yadori pick --print </dev/tty | string collect --no-trim-newlines)
        commandline --insert -- $text
    end
    commandline --function repaint
end
function _yadori_expand
    set -l after (commandline | string sub --start (math (commandline --cursor) + 1) | string collect)
    if set -l text (commandline --cut-at-cursor | yadori expand | string collect)
        commandline --replace -- $text$after
        commandline --cursor (string length -- $text)
    end
end
bind \cxy _yadori_pick
bind \cx: _yadori_expand
"#;

impl Widget {
    pub fn run(self) -> Result<(), Failure> {
        let script = match self.shell {
            Shell::Bash => BASH,
            Shell::Zsh => ZSH,
            Shell::Fish => FISH,
        };
        Ok(std::io::stdout().write_all(script.as_bytes())?)
    }
}

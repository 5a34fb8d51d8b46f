//! `nubrik setup completions`

use clap_complete::Shell;
use clap_complete::env::Shells;

use super::{CommandResult, say_wrong};
use crate::completing::VARIABLE;
use crate::exit::Exit;
use crate::ui::console::{Console, out};

/// The library's script does not know that bash takes each `=` for a word of its own.
const BASH: &str = r#"_nubrik_proposals() {
    local IFS=$'\013' words=() word typed at
    for ((at = 0; at <= COMP_CWORD; at++)); do
        word=${COMP_WORDS[at]}
        if ((at > 0)) && [[ $word == = || ${COMP_WORDS[at - 1]} == = ]]; then
            words[${#words[@]} - 1]+=$word
        else
            words+=("$word")
        fi
    done
    typed=${words[${#words[@]} - 1]}
    COMPREPLY=()
    IFS=$'\013' read -r -d '' -a COMPREPLY < <(_CLAP_IFS=$IFS _CLAP_COMPLETE_INDEX=$((${#words[@]} - 1)) \
        _CLAP_COMPLETE_COMP_TYPE=$COMP_TYPE _CLAP_COMPLETE_SPACE=false VARIABLE=bash 'PROGRAM' -- "${words[@]}" 2> /dev/null)
    if [[ $typed == *=* ]]; then COMPREPLY=("${COMPREPLY[@]#"${typed%%=*}="}"); fi
    if [[ ${COMPREPLY-} =~ [=/]$ ]]; then compopt -o nospace 2> /dev/null; fi
    # Names of folders come from the checkout: what a shell gives a meaning in them is quoted.
    for at in "${!COMPREPLY[@]}"; do printf -v "COMPREPLY[at]" %q "${COMPREPLY[at]}"; done
    return 0
}
complete -o bashdefault -F _nubrik_proposals nubrik
"#;

/// Prints what a shell reads to ask this program what to propose.
pub fn completions(console: Console, shell: Shell) -> CommandResult<Exit> {
    let program = std::env::current_exe().map(|path| path.display().to_string());
    let program = program.unwrap_or_else(|_| "nubrik".to_owned());
    if shell == Shell::Bash {
        let script = BASH
            .replace("VARIABLE", VARIABLE)
            .replace("PROGRAM", &program.replace('\'', "'\\''"));
        out!(console, "{script}");
        return Ok(Exit::Done);
    }
    let (shells, mut script) = (Shells::builtins(), Vec::new());
    let written = shells
        .completer(&shell.to_string())
        .map(|shell| shell.write_registration(VARIABLE, "nubrik", "nubrik", &program, &mut script));
    match written {
        Some(Ok(())) => {
            out!(console, "{}", String::from_utf8_lossy(&script));
            Ok(Exit::Done)
        }
        _ => Err(say_wrong(
            console,
            Exit::Own,
            &format!("there is no script for {shell}"),
            &[],
        )),
    }
}

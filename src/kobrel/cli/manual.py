"""The manual page and the completions of shells, from what the commands say of themselves."""

import typing
from collections.abc import Iterator
from typing import Any

import typer.main

from kobrel import __version__
from kobrel.cli.shared import app

EXIT_CODES = {
    0: "Success.", 1: "Something was found, or something of several failed.",
    2: "Bad input; one-line message on stderr, nothing written.",
    70: "Something went wrong inside.", 130: "It was stopped.",
}  # fmt: skip
_WINDOW = (("--demo", "Open the demo, Night Ferry."), ("--version", "Print the version."))


def commands(former: bool = False) -> dict[str, Any]:
    """All commands by name; with the former names of some that are still understood."""
    found = typer.main.get_command(app).commands  # type: ignore[attr-defined]
    return {name: each for name, each in sorted(found.items()) if former or not each.hidden}


def _choices(parameter: Any) -> tuple[str, ...]:
    """What may be given, where that is one of some words."""
    kind = parameter.type_descriptor.annotation
    for each in (kind, *typing.get_args(kind)):
        if typing.get_origin(each) is typing.Literal:
            return tuple(map(str, typing.get_args(each)))
    return ()


def _usage(name: str, command: Any) -> str:
    words = [name]
    for parameter in command.params:
        if parameter.opts[0].startswith("-"):
            value = "" if parameter.is_flag else f" {_value(parameter)}"
            text = f"{parameter.opts[-1]}{value}"
            words.append(text if parameter.required else f"[{text}]")
        else:
            words.append(parameter.metavar or parameter.name.upper())
    return " ".join(words)


def _value(parameter: Any) -> str:
    return str(parameter.metavar or "|".join(_choices(parameter)) or parameter.name.upper())


def _roff(text: str) -> str:
    safe = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{safe}" if safe.startswith((".", "'")) else safe


def manual_page() -> str:
    """``kobrel.1``, for man."""
    lines = [
        f'.TH KOBREL 1 "" "Kobrel {__version__}" "User commands"',
        ".SH NAME", "kobrel \\- plan depth of field for computer\\-made shots",
        ".SH SYNOPSIS", ".B kobrel", "[PLAN|SCENE]", ".br", ".B kobrel", "COMMAND ...",
        ".SH DESCRIPTION",
        "Without a command it opens the window. The commands do the same work without one; PLAN may be",
        "\\- for standard input, and \\-o \\- writes to standard output.",
        ".SH OPTIONS OF THE WINDOW",
    ]  # fmt: skip
    for option, hint in _WINDOW:
        lines += [".TP", f".B {_roff(option)}", _roff(hint)]
    lines.append(".SH COMMANDS")
    for name, command in commands().items():
        lines += [".SS " + _roff(_usage(name, command)), _roff(" ".join((command.help or "").split()))]
        for parameter in command.params:
            if parameter.help:
                names = ", ".join(parameter.opts) if parameter.opts[0].startswith("-") else _value(parameter)
                lines += [".TP", f".B {_roff(names)}", _roff(" ".join(parameter.help.split()))]
    lines.append(".SH EXIT STATUS")
    for code, meaning in EXIT_CODES.items():
        lines += [".TP", f".B {code}", _roff(meaning)]
    return "\n".join(lines) + "\n"


def _options(command: Any) -> Iterator[tuple[str, Any]]:
    for parameter in command.params:
        for option in parameter.opts:
            if option.startswith("-"):
                yield option, parameter


def bash_completion() -> str:
    """Completion for bash: commands, then their options, and the words that an option takes."""
    cases, words = [], []
    for name, command in commands().items():
        options = " ".join(dict(_options(command)))
        cases.append(f'    {name}) COMPREPLY=($(compgen -W "{options}" -- "$word")) ;;')
        words += [
            f'    {name}:{option}) words="{" ".join(_choices(parameter))}" ;;'
            for option, parameter in _options(command)
            if _choices(parameter)
        ]
    return "\n".join([
        "# Completion of kobrel for bash",
        "_kobrel() {",
        '  local word="${COMP_WORDS[COMP_CWORD]}" before="${COMP_WORDS[COMP_CWORD-1]}"',
        '  local command="${COMP_WORDS[1]}" words=""',
        "  COMPREPLY=()",
        '  if [ "$COMP_CWORD" = 1 ]; then',
        f'    COMPREPLY=($(compgen -W "{" ".join(commands())} --demo --version" -- "$word"))',
        "    return",
        "  fi",
        '  case "$command:$before" in',
        *words,
        "  esac",
        '  [ -z "$words" ] || { COMPREPLY=($(compgen -W "$words" -- "$word")); return; }',
        '  [[ "$word" == -* ]] || return',
        '  case "$command" in',
        *cases,
        "  esac",
        "}",
        "complete -o default -F _kobrel kobrel",
        "",
    ])  # fmt: skip


def zsh_completion() -> str:
    """Completion for zsh."""
    lines = ["#compdef kobrel", "local -a commands", "commands=("]
    lines += [f"  '{name}:{_quoted(_first(command))}'" for name, command in commands().items()]
    lines += [
        ")", "if (( CURRENT == 2 )); then", "  _describe command commands", "  _files", "  return", "fi",
        'case "$words[2]" in',
    ]  # fmt: skip
    for name, command in commands().items():
        told = [f"    '{option}[{_quoted(p.help or '')}]{_zsh_value(p)}'" for option, p in _options(command)]
        lines += [
            f"  {name})",
            "    _arguments \\",
            *(f"{line} \\" for line in told),
            "    '*:file:_files' ;;",
        ]
    return "\n".join([*lines, "esac", ""])


def _zsh_value(parameter: Any) -> str:
    if parameter.is_flag:
        return ""
    choices = _choices(parameter)
    return f":value:({' '.join(choices)})" if choices else ":value:_files"


def fish_completion() -> str:
    """Completion for fish."""
    lines = ["# Completion of kobrel for fish"]
    for name, command in commands().items():
        lines.append(f"complete -c kobrel -n __fish_use_subcommand -a {name} -d '{_quoted(_first(command))}'")
        for option, parameter in _options(command):
            kind = f"-l {option[2:]}" if option.startswith("--") else f"-s {option[1:]}"
            choices = _choices(parameter)
            takes = "" if parameter.is_flag else f" -x -a '{' '.join(choices)}'" if choices else " -r"
            lines.append(
                f"complete -c kobrel -n '__fish_seen_subcommand_from {name}' {kind}{takes} "
                f"-d '{_quoted(parameter.help or '')}'"
            )
    return "\n".join([*lines, ""])


def _first(command: Any) -> str:
    return " ".join((command.help or "").split()).partition(". ")[0]


def _quoted(text: str) -> str:
    """Text within single quotes of any shell, without what completions take for their own signs."""
    plain = " ".join(text.split())
    return "".join("’" if sign == "'" else " " if sign in "[]:\\" else sign for sign in plain)

"""Shell completion, made from the parser: what it knows is what there is."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from apilado.errors import ApiladoError

SHELLS = ("bash", "zsh", "fish")


def commands_of(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    """The commands of a parser, by their names."""
    return next(dict(each.choices) for each in parser._actions if isinstance(each, argparse._SubParsersAction))


def options_of(command: argparse.ArgumentParser) -> Iterator[tuple[str, tuple[str, ...], str]]:
    """(name, what it may be followed by, help) of each option of a command."""
    for action in command._actions:
        for name in action.option_strings:
            if name.startswith("--"):
                yield name, tuple(map(str, action.choices or ())), action.help or ""


def script(parser: argparse.ArgumentParser, shell: str) -> str:
    """What a shell reads to complete the commands.

    Raises:
        ApiladoError: a shell for which there is none.
    """
    if shell == "fish":
        return "\n".join(_fish(parser)) + "\n"
    if shell in ("bash", "zsh"):
        head = "autoload -U +X bashcompinit && bashcompinit\n" if shell == "zsh" else ""
        return head + "\n".join(_bash(parser)) + "\n"
    raise ApiladoError(f"there is no completion for '{shell}'; there is for {', '.join(SHELLS)}")


def _bash(parser: argparse.ArgumentParser) -> Iterator[str]:
    commands = commands_of(parser)
    yield "_apilado() {"
    yield '  local word="${COMP_WORDS[COMP_CWORD]}" before="${COMP_WORDS[COMP_CWORD-1]}" command="${COMP_WORDS[1]}"'
    yield '  if [ "$COMP_CWORD" -eq 1 ]; then'
    yield f'    COMPREPLY=($(compgen -W "{" ".join(commands)}" -- "$word")); return'
    yield "  fi"
    yield '  case "$command $before" in'
    for name, command in commands.items():
        for option, choices, _ in options_of(command):
            if choices:
                words = f'COMPREPLY=($(compgen -W "{" ".join(choices)}" -- "$word")); return;;'
                yield f'    "{name} {option}") {words}'
    yield "  esac"
    yield '  case "$command" in'
    for name, command in commands.items():
        options = " ".join(option for option, _, _ in options_of(command))
        words = f'COMPREPLY=($(compgen -W "{options}" -- "$word")) && return;;'
        yield f'    {name}) [ "${{word#-}}" != "$word" ] && {words}'
    yield "  esac"
    yield '  COMPREPLY=($(compgen -f -- "$word"))'
    yield "}"
    yield "complete -o filenames -F _apilado apilado"


def _fish(parser: argparse.ArgumentParser) -> Iterator[str]:
    helps = {}
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            helps = {each.dest: each.help or "" for each in action._choices_actions}
    for name, command in commands_of(parser).items():
        yield f"complete -c apilado -n __fish_use_subcommand -a {name} -d {_quoted(helps.get(name, ''))}"
        for option, choices, said in options_of(command):
            words = f" -x -a {_quoted(' '.join(choices))}" if choices else ""
            seen = f"'__fish_seen_subcommand_from {name}'"
            yield f"complete -c apilado -n {seen} -l {option[2:]} -d {_quoted(said)}{words}"


def _quoted(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"

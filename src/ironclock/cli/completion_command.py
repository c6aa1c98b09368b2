"""`ironclock completion`: what a shell needs to complete commands and options."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

_WHERE = {
    "bash": 'eval "$(ironclock completion bash)"', "zsh": 'eval "$(ironclock completion zsh)"',
    "fish": "ironclock completion fish | source",
}  # fmt: skip


@click.command(short_help="Print what a shell needs to complete commands.")
@click.argument("shell", type=click.Choice(list(_WHERE)))
@click.pass_context
def completion(ctx: click.Context, shell: str) -> None:
    """Print the completion script of a SHELL, which the shell reads when it starts.

    \b
    bash, in ~/.bashrc:                  eval "$(ironclock completion bash)"
    zsh, in ~/.zshrc:                    eval "$(ironclock completion zsh)"
    fish, in ~/.config/fish/config.fish: ironclock completion fish | source
    """
    made = get_completion_class(shell)
    assert made is not None
    root = ctx.find_root().command
    click.echo(made(root, {}, "ironclock", "_IRONCLOCK_COMPLETE").source())

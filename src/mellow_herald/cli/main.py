"""The command ``herald``: nouns, then verbs. Heavy imports happen inside the commands, so that help comes at once."""

import sys

import typer

from mellow_herald.cli import (
    backup,
    bench_test,
    board,
    chart,
    coap,
    code,
    demo,
    device,
    doctor,
    image,
    installing,
    inventory,
    journal,
    key,
    nameplate,
    person,
    radio,
    readings,
    recording,
    release,
    rollout,
    selection,
    serve,
    signal,
    sim,
    token,
    tree,
    upkeep,
    webhook,
)

NEW_LINE = "\n"
app = typer.Typer(
    name="herald",
    help="Publishes firmware releases to a device fleet, stages rollouts in rings, and brings devices back.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
)
for noun in (
    key,
    board,
    nameplate,
    image,
    release,
    code,
    device,
    selection,
    rollout,
    coap,
    radio,
    signal,
    recording,
    chart,
    person,
    token,
    webhook,
    journal,
    sim,
):
    app.add_typer(noun.app)
assert (
    installing.app is inventory.app is tree.app is device.app and upkeep.app is release.app
)  # their commands stand under `herald device` and `herald release`
device.app.command("recording")(recording.ask)
app.command("serve")(serve.serve)
app.command("backup")(backup.backup)
app.command("restore")(backup.restore)
app.command("demo")(demo.demo)
app.command("readings")(readings.readings)
app.command("doctor")(doctor.doctor)
app.command("bench-test")(bench_test.bench_test)
app.command("sign-in")(person.sign_in)
app.command("whoami")(person.whoami)


def main() -> None:
    """Runs the command; errors become one readable line and an exit code."""
    try:
        app()
    except KeyboardInterrupt:
        sys.exit(130)
    except BrokenPipeError:
        sys.stderr.close()  # whoever read our output has enough
    except Exception as error:
        sys.exit(_explain(error))


def _explain(error: Exception) -> int:
    """Prints what was tried, what went wrong and what to do; returns the exit code (1 failed, 3 not signed in)."""
    from pydantic import ValidationError

    from mellow_herald.client.errors import HeraldError, NotSignedInError
    from mellow_herald.core.refusal import Refused
    from mellow_herald.core.visible import visible

    if isinstance(error, ValidationError):
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        message = first["msg"].removeprefix("Value error, ")
        print(f"herald: {place}: {message}" if place else f"herald: {message}", file=sys.stderr)
        return 1
    if not isinstance(error, HeraldError | Refused):
        raise error
    checks = getattr(error, "checks", None)
    if checks:
        from mellow_herald.cli.checks import print_checks

        print_checks(checks, quiet=True, error=True)
        doing = f"{error.doing}: " if isinstance(error, HeraldError) else ""
        names = ", ".join(dict.fromkeys(check.name for check in checks if check.verdict == "refuse"))
        print(f"herald: {doing}refused ({names}).", file=sys.stderr)
        return 1
    _point_at_mistake(str(error))
    lines = visible(str(error), keep=NEW_LINE).splitlines()
    # What it is made up of comes first, as with checks; the last line is what it comes to.
    apart = [line for line in lines if line.startswith("  ")]
    for line in apart:
        print(line, file=sys.stderr)
    print("herald: " + "\n".join(line for line in lines if line not in apart), file=sys.stderr)
    return 3 if isinstance(error, NotSignedInError) else 1


def _point_at_mistake(message: str) -> None:
    """Where a selector on the command line goes wrong: the text, and a mark under the character."""
    import re

    found = re.search(r"the selector goes wrong at character (\d+)", message)
    given = [value for option, value in zip(sys.argv, sys.argv[1:], strict=False) if option == "--where"]
    if found and given:
        print(f"  {given[-1]}\n  {' ' * (int(found[1]) - 1)}^", file=sys.stderr)


if __name__ == "__main__":
    main()

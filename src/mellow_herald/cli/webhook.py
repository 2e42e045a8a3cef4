"""Webhooks: events sent on to other programs."""

from typing import Annotated

import typer

from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, print_json, table

app = typer.Typer(name="webhook", help="Events sent on to other programs, as signed CloudEvents.", no_args_is_help=True)
Id = Annotated[int, typer.Argument(metavar="ID", help="The webhook's number.")]


@app.command("add")
def add(
    url: Annotated[str, typer.Argument(metavar="URL", help="Where events are to be posted.")],
    kinds: Annotated[
        list[str], typer.Option("--kind", help="rollout (the default), attempt, device, release or admission.")
    ] = ["rollout"],  # noqa: B006
    note: Annotated[str, typer.Option("--note", help="What it is for.")] = "",
    headers: Annotated[
        list[str] | None,
        typer.Option("--header", help="'Name: value' to go with every call, kept secret; may be given several times."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Send events on to an address from now on. The secret its calls are signed with is shown this once."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.wire.webhook import WebhookIn

    pairs = [one.partition(":") for one in headers or []]
    given = {name.strip(): value.strip() for name, _, value in pairs}
    said = WebhookIn.model_validate({"url": url, "kinds": kinds, "note": note, "headers": given})
    with connect() as herald:
        made = herald.webhooks.add(said)
    if as_json:
        print_json(made)
    else:
        print(f"Webhook {made.id} sends {', '.join(made.kinds)} events to {made.url}.")
        print(f"Its secret, shown this once: {made.secret}")


@app.command("list")
def list_webhooks(as_json: AsJson = False) -> None:
    """List webhooks, and how they fare."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        hooks = herald.webhooks.list()
    if as_json:
        print_json(hooks)
        return
    rows = [
        [
            str(h.id),
            h.url,
            ", ".join(h.kinds),
            "closed" if h.closed_at else "open",
            str(h.delivered),
            str(h.waiting),
            str(h.dead),
            h.failure,
            h.note,
        ]
        for h in hooks
    ]
    columns = ["id", "url", "kinds", "state", "taken", "waiting", "dead", "newest failure", "note"]
    table("Webhooks", columns, rows, right=["id", "taken", "waiting", "dead"])


@app.command("dead")
def dead(webhook_id: Id, as_json: AsJson = False) -> None:
    """List the events that a webhook did not take after all tries."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        letters = herald.webhooks.dead(webhook_id)
    if as_json:
        print_json(letters)
        return
    rows = [[str(d.event), d.body.get("type", ""), d.body.get("subject", ""), str(d.tries), d.failure] for d in letters]
    table("Dead letters", ["event", "type", "subject", "tries", "failure"], rows, right=["event", "tries"])


@app.command("redeliver")
def redeliver(webhook_id: Id) -> None:
    """Try a webhook's dead letters again."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        print(f"{herald.webhooks.redeliver(webhook_id).events} events are tried again.")


@app.command("receive")
def receive(
    secret: Annotated[str, typer.Option("--secret", envvar="HERALD_WEBHOOK_SECRET", help="What `add` showed.")],
    port: Annotated[int, typer.Option("--port", min=1, max=65535, help="Where to listen, on loopback.")] = 8420,
    refuse: Annotated[
        int, typer.Option("--refuse", min=0, help="Answer the first calls with 503, to see retries.")
    ] = 0,
) -> None:
    """A small receiver to try webhooks with: checks every signature and prints every event. Needs no service."""
    import sys

    from mellow_herald.client.receiver import make_server

    server = make_server(port, secret, refuse, lambda line: print(line, flush=True))
    print(f"listening at http://127.0.0.1:{port}/", file=sys.stderr)
    server.serve_forever()


@app.command("close")
def close(webhook_id: Id, yes: Yes = False) -> None:
    """Send nothing there any more; what it has not taken is forgotten."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if not yes:
            hook = next((one for one in herald.webhooks.list() if one.id == webhook_id), None)
            left = f" {hook.waiting + hook.dead} events that it has not taken are forgotten." if hook else ""
            typer.confirm(f"Close webhook {webhook_id}?{left}", abort=True, err=True)
        herald.webhooks.close(webhook_id)
    print(f"Webhook {webhook_id} closed.")

"""Running the service."""

import os
from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.extras import require
from mellow_herald.cli.output import note

# What a supervisor may act upon: the service is well, its database cannot be kept running.
DATABASE_GONE = 6


Images = Annotated[
    str | None,
    typer.Option(
        "--images",
        envvar="HERALD_IMAGES",
        metavar="s3://BUCKET/PREFIX",
        help="Keep images in this object store (reached as AWS_… in the environment says), not in the data folder.",
    ),
]


def serve(
    data_dir: Annotated[Path, typer.Option("--data-dir", help="Where database, images and logs are kept.")] = Path(
        "data"
    ),
    host: Annotated[str, typer.Option("--host", help="The address to serve at.")] = "127.0.0.1",
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="The port to serve at.")] = 8410,
    database_url: Annotated[
        str | None,
        typer.Option(
            "--database-url",
            envvar="HERALD_DATABASE_URL",
            help="Use this PostgreSQL (postgresql://…), not one of our own.",
        ),
    ] = None,
    time_scale: Annotated[float, typer.Option("--time-scale", min=0.1, help="Service seconds per real second.")] = 1.0,
    workers: Annotated[int, typer.Option("--workers", min=1, max=64, help="Serve with so many processes.")] = 1,
    upload_limit: Annotated[int, typer.Option("--upload-limit", min=1, help="Largest release file, bytes.")] = 1024**3,
    trusted_proxy: Annotated[
        str | None,
        typer.Option(
            "--trusted-proxy",
            envvar="HERALD_TRUSTED_PROXY",
            help="Believe X-Forwarded-For of this address or network (comma-separated); nobody's otherwise.",
        ),
    ] = None,
    webhook_allow: Annotated[
        str | None,
        typer.Option(
            "--webhook-allow",
            envvar="HERALD_WEBHOOK_ALLOW",
            help="Webhooks may go to these networks, too (10.1.0.0/16, comma-separated), not only to the internet.",
        ),
    ] = None,
    images: Images = None,
    front_images: Annotated[
        str | None,
        typer.Option(
            "--front-images",
            envvar="HERALD_FRONT_IMAGES",
            metavar="/PATH/",
            help="A front server hands images out: the path within it that has them (X-Accel-Redirect).",
        ),
    ] = None,
    radio: Annotated[
        str | None,
        typer.Option("--radio", envvar="HERALD_RADIO", metavar="URL", help="Follow the radio network there."),
    ] = None,
    radio_token: Annotated[
        str | None, typer.Option("--radio-token", envvar="HERALD_RADIO_TOKEN", help="The token that it asks for.")
    ] = None,
    coap_port: Annotated[
        int | None,
        typer.Option(
            "--coap-port", envvar="HERALD_COAP_PORT", min=1, max=65535, help="Serve CoAP at this UDP port (5683)."
        ),
    ] = None,
    coap_open: Annotated[
        bool,
        typer.Option(
            "--coap-open", help="Answer CoAP that is not protected, too, if it comes from this machine: for a bench."
        ),
    ] = False,
    coap_packages: Annotated[
        str | None,
        typer.Option(
            "--coap-packages",
            envvar="HERALD_COAP_PACKAGES",
            metavar="URL",
            help="Where CoAP devices that fetch by HTTP reach this service (https://…).",
        ),
    ] = None,
    readings_days: Annotated[
        int,
        typer.Option(
            "--readings-days", envvar="HERALD_READINGS_DAYS", min=1, max=3650, help="Keep each reading so many days."
        ),
    ] = 30,
    rollups_days: Annotated[
        int,
        typer.Option(
            "--rollups-days",
            envvar="HERALD_ROLLUPS_DAYS",
            min=1,
            max=36_500,
            help="Keep what was rolled up of a minute or an hour of readings so many days.",
        ),
    ] = 365,
    secure_cookie: Annotated[
        bool | None,
        typer.Option(
            "--secure-cookie/--plain-cookie",
            envvar="HERALD_SECURE_COOKIE",
            help="Browsers send the session by HTTPS only. The default unless the host is loopback.",
        ),
    ] = None,
) -> None:
    """Serve API and console until stopped."""
    require("service")
    from mellow_herald.core.refusal import Refused
    from mellow_herald.service.holding import TakenError
    from mellow_herald.service.serve import DatabaseGoneError, PortTakenError
    from mellow_herald.service.serve import serve as run
    from mellow_herald.service.settings import LOOPBACK, Settings
    from mellow_herald.service.webhooks.guard import read_networks
    from mellow_herald.store.clock import OtherScaleError
    from mellow_herald.store.cluster import ClusterError
    from mellow_herald.store.database import NewerSchemaError, read_url
    from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS

    try:
        read_networks(webhook_allow)
    except ValueError as error:
        raise typer.BadParameter(f"{error}. Write it like 10.1.0.0/16.", param_hint="--webhook-allow") from None
    if front_images is not None and not (front_images.startswith("/") and front_images.endswith("/")):
        raise typer.BadParameter("Write it like /stored-images/.", param_hint="--front-images")
    if radio is not None and not radio.startswith(("http://", "https://")):
        raise typer.BadParameter("Write it like http://127.0.0.1:8411.", param_hint="--radio")
    if coap_open and (coap_port is None or host not in LOOPBACK):
        raise typer.BadParameter(
            "It goes with --coap-port and a --host of this machine only.", param_hint="--coap-open"
        )
    if coap_packages is not None and not coap_packages.startswith(("http://", "https://")):
        raise typer.BadParameter("Write it like https://herald.example.", param_hint="--coap-packages")
    settings = Settings(
        data_dir=data_dir,
        host=host,
        port=port,
        # A worker is told by its environment, where a password in the address is not seen in a list of processes.
        database_url=read_url(database_url) if database_url else os.environ.get("HERALD_WORKER_DATABASE_URL"),
        time_scale=time_scale,
        upload_limit=upload_limit,
        workers=workers,
        trusted_proxy=trusted_proxy,
        webhook_allow=webhook_allow,
        secure_cookie=secure_cookie,
        images=images,
        front_images=front_images,
        radio=radio,
        radio_token=radio_token,
        coap_port=coap_port,
        coap_open=coap_open,
        coap_packages=coap_packages,
        readings_days=readings_days,
        rollups_days=rollups_days,
    )
    try:
        run(settings, lambda line: print(line, flush=True))
    except DATABASE_ERRORS as error:
        said = str(error).partition("\n")[0]
        raise Refused("no-database", f"cannot serve: the database does not answer ({said}).") from None
    except (PortTakenError, TakenError, ClusterError, NewerSchemaError, OtherScaleError) as error:
        raise Refused("cannot-serve", f"cannot serve: {error}") from None
    except DatabaseGoneError as error:
        note(f"herald: {error}")
        raise typer.Exit(DATABASE_GONE) from None

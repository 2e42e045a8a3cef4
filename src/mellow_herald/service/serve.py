"""Running the service: the cluster, the schema, the server, and their end."""

import asyncio
import gc
import logging
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Callable
from typing import Any

import structlog
import uvicorn
import uvloop
from fastapi import FastAPI

from mellow_herald.core.visible import visible
from mellow_herald.service.app import create_app, open_context
from mellow_herald.service.backup.restoring import refuse_half_restored
from mellow_herald.service.cluster_keeper import ClusterKeeper
from mellow_herald.service.companion import Companion
from mellow_herald.service.connections import Connection, keep_looking, make_room
from mellow_herald.service.holding import hold_folder, hold_port
from mellow_herald.service.people.passwords import Passwords
from mellow_herald.service.people.team import bootstrap
from mellow_herald.service.settings import DEFAULT_PORT, Settings
from mellow_herald.service.supervisor import Supervisor
from mellow_herald.service.workers import Workers, child_command, child_environment, end_with_parent
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import Pools

STOP_SECONDS = 3


class PortTakenError(RuntimeError):
    """Something else listens on the port."""


class DatabaseGoneError(RuntimeError):
    """PostgreSQL could not be kept running."""


def take_port(host: str, port: int) -> socket.socket:
    """Binds the port before anything is started, so that a clash is said at once."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # Connections inherit it. Without, an answer's second part waits 40 ms for the caller's delayed acknowledgement.
    listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    try:
        listener.bind((host, port))
    except OSError as error:
        listener.close()
        raise PortTakenError(
            f"port {port} on {host} cannot be used ({error.strerror}). Choose another: --port {port + 1}"
        ) from None
    return listener


def check_datagram_port(host: str, port: int) -> None:
    """Says at once if the port for CoAP is taken: it is bound in a process of its own."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as trial:
        try:
            trial.bind((host, port))
        except OSError as error:
            raise PortTakenError(
                f"UDP port {port} on {host} cannot be used ({error.strerror}). Choose another: --coap-port {port + 1}"
            ) from None


def serve(settings: Settings, say: Callable[[str], None] = print) -> None:
    """Serves until SIGINT or SIGTERM, then stops everything it started, PostgreSQL included."""
    _log_to_stderr()
    supervisor = Supervisor()
    # A closed terminal is a stop like any other: PostgreSQL must not be left behind.
    signal.signal(signal.SIGHUP, lambda *_: signal.raise_signal(signal.SIGTERM))
    if settings.listener_fd is not None:
        assert settings.database_url is not None
        uvloop.run(_serve(settings, settings.database_url, socket.socket(fileno=settings.listener_fd), supervisor))
        return
    if settings.coap_alone:
        # Whoever serves no CoAP loads nothing of it.
        from mellow_herald.service.coap_process import serve_coap

        assert settings.database_url is not None
        asyncio.run(serve_coap(settings, settings.database_url))
        return
    mark = hold_port(settings.port)
    listener = take_port(settings.host, settings.port)
    if settings.coap_port is not None:
        check_datagram_port(settings.host, settings.coap_port)
    folder = hold_folder(settings.data_dir)
    refuse_half_restored(settings.data_dir)
    cluster = keeper = companion = None
    try:
        url = settings.database_url
        if url is None:
            # Until the server has handlers of its own, a signal must still lead through the `finally` below.
            signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
            cluster = Cluster(settings.data_dir / "postgres")
            cluster.start()
            url = cluster.url
            keeper = ClusterKeeper(cluster, give_up=lambda: os.kill(os.getpid(), signal.SIGTERM))
            keeper.start()
        asyncio.run(_first_start(settings, url, listener, say))
        if settings.coap_port is not None:
            companion = _start_coap(settings, url)
            say(f"CoAP at coap://{settings.host}:{settings.coap_port}" + (", open" if settings.coap_open else ""))
        if settings.workers > 1:
            Workers(settings, url, listener, supervisor, say).run()
        else:
            uvloop.run(_serve(settings, url, listener, supervisor))
    finally:
        listener.close()
        if companion is not None:
            companion.stop()
        if keeper is not None:
            keeper.stop()
        if cluster is not None:
            cluster.stop()
        if mark is not None:
            mark.close()
        folder.close()
        if cluster is not None and keeper is not None and keeper.gave_up:  # the stop was our own
            raise DatabaseGoneError(f"PostgreSQL ended again and again; its log is {cluster.log}")


def _start_coap(settings: Settings, url: str) -> Companion:
    """The process that speaks CoAP, kept running."""
    environment = {**child_environment(settings, url), "HERALD_COAP_ALONE": "true"}

    def start() -> "subprocess.Popen[bytes]":
        # A session of its own: a Ctrl-C in the terminal is for us, and we end it in order.
        return subprocess.Popen(
            child_command(settings), env=environment, start_new_session=True, preexec_fn=end_with_parent
        )

    return Companion("the process for CoAP", start)


async def _first_start(settings: Settings, url: str, listener: socket.socket, say: Callable[[str], None]) -> None:
    """Schema and first admin, before anybody is served; says where the service is."""
    context = await open_context(settings, Pools(url), serves=False)
    password = await bootstrap(context, Passwords())
    await context.pools.dispose()
    port = listener.getsockname()[1]
    if password is not None and settings.admin_password is None:
        say(f"First start: sign in as admin with password {password} (shown this once, and to be changed).")
    address = f"http://{settings.host}:{port}"
    say(f"Mellow Herald serves at {address}" + ("" if port == DEFAULT_PORT else f" (not the usual {DEFAULT_PORT})"))


async def _serve(settings: Settings, url: str, listener: socket.socket, supervisor: Supervisor) -> None:
    context = await open_context(settings, Pools(url))
    config = server_config(settings, create_app(context))
    # What is loaded by now stays; looking through it again and again would cost a tenth of all time.
    gc.collect()
    gc.freeze()
    gc.set_threshold(10_000, 10, 10)
    make_room(settings.trusted_proxy)
    server = _Server(config, supervisor, on_stop=context.let_go)
    looking = asyncio.create_task(keep_looking(server.server_state.connections))
    try:
        await server.serve(sockets=[listener])
    finally:
        looking.cancel()


def server_config(settings: Settings, app: FastAPI) -> uvicorn.Config:
    """How the application is served."""
    return uvicorn.Config(
        app,
        log_config=None,
        access_log=False,
        lifespan="on",
        http=Connection,
        server_header=False,
        proxy_headers=settings.trusted_proxy is not None,
        forwarded_allow_ips=settings.trusted_proxy,
        timeout_graceful_shutdown=STOP_SECONDS,
        timeout_keep_alive=75,
    )


class _Server(uvicorn.Server):
    """Tells event streams, and check-ins that are held open, to end as soon as a stop is asked for: they would hold it
    up, and those that are cut off at last would be answered 500."""

    def __init__(self, config: uvicorn.Config, supervisor: Supervisor, on_stop: Callable[[], None]) -> None:
        super().__init__(config)
        self._supervisor, self._on_stop = supervisor, on_stop

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        self._supervisor.ready()

    async def on_tick(self, counter: int) -> bool:
        self._supervisor.lives()
        return await super().on_tick(counter)

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        self._supervisor.stops()
        self._on_stop()
        await super().shutdown(sockets)


def _log_to_stderr() -> None:
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr, format="%(levelname)s %(name)s: %(message)s")
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            structlog.processors.KeyValueRenderer(key_order=["timestamp", "level", "event"]),
            _as_text,
        ],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def _as_text(_logger: object, _method: str, line: Any) -> str:
    """What a device said is text, in a traceback, too."""
    return visible(line, keep="\n")

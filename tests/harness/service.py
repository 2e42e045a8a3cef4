"""A service process of its own thread on loopback, with what tests need to work with it."""

import asyncio
import threading
import time
from contextlib import suppress
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import httpx
import uvicorn
from argon2 import PasswordHasher

from mellow_herald.client import Herald
from mellow_herald.core.keys import raw_public
from mellow_herald.service.app import create_app, open_context
from mellow_herald.service.connections import keep_looking
from mellow_herald.service.context import Context
from mellow_herald.service.people import passwords
from mellow_herald.service.people.sign_in import SignIns
from mellow_herald.service.people.team import bootstrap
from mellow_herald.service.serve import server_config, take_port
from mellow_herald.service.settings import Settings
from mellow_herald.store import tallies
from mellow_herald.store.database import Pools
from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import RolloutOut
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher
from tests.harness.patience import PATIENCE_S
from tests.harness.reuse import reuse_routes, reuse_statements

PASSWORD = "only-for-tests"
# As strong as in earnest, it would take most of the time of a test.
passwords.HASHER = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)


class RunningService:
    """The service on a free port; ``herald`` is signed in as admin."""

    def __init__(self, database_url: str, data_dir: Path, **settings: object) -> None:
        given = {"admin_password": PASSWORD, "webhook_allow": "127.0.0.0/8", **settings}
        self.settings = Settings(data_dir=data_dir, **given)  # type: ignore[arg-type]
        self.database_url = database_url
        self.publisher = Publisher()
        self.context: Context
        self.door: SignIns
        self.loop: asyncio.AbstractEventLoop
        self._server: uvicorn.Server
        self._listener = take_port("127.0.0.1", 0)
        self.url = f"http://127.0.0.1:{self._listener.getsockname()[1]}"
        self._ready = threading.Event()
        self._failure: BaseException | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> "RunningService":
        """Starts it and waits until it serves."""
        self._thread.start()
        self._ready.wait(PATIENCE_S)
        if self._failure:
            raise self._failure
        deadline = time.monotonic() + PATIENCE_S
        while not self._server.started and time.monotonic() < deadline:
            time.sleep(0.01)
        self.herald = Herald(self.url)
        self.herald.people.sign_in("admin", PASSWORD)
        self.token = self.herald.people.make_token().token
        self.herald.close()
        self.herald = Herald(self.url, token=self.token)
        self.herald._http.timeout = httpx.Timeout(PATIENCE_S)
        return self

    def stop(self) -> None:
        """Stops it. Whatever a test did, the counts that are kept as attempts move are what there is."""
        if self._thread.is_alive():
            with suppress(*DATABASE_ERRORS, TimeoutError):  # some tests take the database away
                amiss = self.call(tallies.mend(self.context.pools.work))
                assert not amiss, f"the counts of rollouts {amiss} are wrong"
        self.herald.close()
        self._server.should_exit = True
        self._thread.join(PATIENCE_S)
        self._listener.close()
        assert not self._thread.is_alive(), "the service did not stop; it would go on beside the tests that follow"

    def _run(self) -> None:
        try:
            asyncio.run(self._serve())
        except BaseException as error:
            self._failure = error
            self._ready.set()

    async def _serve(self) -> None:
        self.loop = asyncio.get_running_loop()
        pools = Pools(self.database_url)
        for engine in pools:
            reuse_statements(engine)
        self.context = await open_context(self.settings, pools)
        await bootstrap(self.context, passwords.Passwords())
        app = create_app(self.context)
        reuse_routes(app)
        self.door = app.state.door
        config = server_config(self.settings, app)
        config.timeout_graceful_shutdown = 1
        self._server = uvicorn.Server(config)
        self._server.install_signal_handlers = lambda: None  # type: ignore[attr-defined,method-assign]
        self._ready.set()
        looking = asyncio.create_task(keep_looking(self._server.server_state.connections))
        try:
            await self._server.serve(sockets=[self._listener])
        finally:
            looking.cancel()

    def call(self, coroutine: object) -> object:
        """Runs a coroutine in the service's own loop."""
        return asyncio.run_coroutine_threadsafe(coroutine, self.loop).result(PATIENCE_S)  # type: ignore[arg-type]

    def pass_time(self, by: timedelta) -> None:
        """Moves service time on, without waiting for it."""
        clock = self.context.clock
        clock._anchor = replace(clock._anchor, service_epoch=clock._anchor.service_epoch + by)

    def http(self, token: str | None = None) -> httpx.Client:
        """A bare HTTP client, for what the client library would not send."""
        headers = {"authorization": f"Bearer {token}"} if token else {}
        return httpx.Client(base_url=self.url, headers=headers, timeout=60, trust_env=False, verify=False)

    def prepare(self, check_in: str = "1m") -> "RunningService":
        """Adds a board and a key list."""
        slots = [
            {"name": "a", "size": 65536},
            {"name": "b", "size": 65536},
            {"name": "files", "size": 65536, "component": "assets"},
            {"name": "modem", "size": 65536, "component": "radio"},
        ]
        board = BoardIn(
            name=BOARD, vendor_domain=DOMAIN, lines=[LINE], hw_revs=[1, 2, 3], slots=slots, check_in=check_in
        )  # type: ignore[arg-type]
        self.herald.boards.add(board)
        self.herald.keys.publish(raw_public(self.publisher.root), self.publisher.key_list_bytes())
        return self

    def publish(self, version: str = "2.5.0", **more: object) -> httpx.Response:
        """Publishes a release file over plain HTTP."""
        body = self.publisher.release_file(version, **more)  # type: ignore[arg-type]
        return self.post_release(body)

    def post_release(self, body: bytes, **params: object) -> httpx.Response:
        """Sends bytes as a release file."""
        with self.http(self.token) as http:
            headers = {"content-type": "application/suit-envelope+cose"}
            return http.post("/api/v1/releases", content=body, headers=headers, params=params)  # type: ignore[arg-type]

    def code(self, uses: int = 1000, **labels: str) -> str:
        """An enrolment code, with these labels on it."""
        made = self.herald.codes.make(CodeIn(board=BOARD, line=LINE, uses=uses, labels=labels))
        assert made.code is not None
        return made.code

    def plan(self, version: str = "2.5.0", **numbers: object) -> PlanDocument:
        """A plan of one ring for all hive scales."""
        document = {
            "name": f"{version} to all",
            "release": f"{BOARD}/{LINE}/{version}",
            "target": f"board = {BOARD}",
            "numbers": {"retries": 0, **numbers},
            "rings": [{"name": "everyone", "soak": "0s"}],
        }
        return PlanDocument.model_validate(document)

    def wait_for(self, rollout_id: int, wanted: object) -> RolloutOut:
        """Waits until ``wanted(rollout)`` holds."""
        deadline = time.monotonic() + PATIENCE_S
        while True:
            rollout = self.herald.rollouts.show(rollout_id)
            if wanted(rollout):  # type: ignore[operator]
                return rollout
            if time.monotonic() > deadline:
                raise AssertionError(f"it did not come to pass: {rollout.model_dump_json(indent=1)}")
            time.sleep(0.05)

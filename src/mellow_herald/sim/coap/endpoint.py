"""What a simulated device serves: the objects 3 (device) and 5 (firmware update) of the standard, and the one that
tells byte for byte what it runs. It knows the standard, and nothing of the service's side."""

import json
from collections.abc import Callable
from typing import Any, Protocol

import aiocoap
from aiocoap import Code, Message, error, resource
from aiocoap.oscore_sitewrapper import OscoreSiteWrapper

from mellow_herald.core.coap import objects
from mellow_herald.core.coap.values import Format

TRANSPORTS = ["oscore", "udp6"]


class Owner(Protocol):
    """The device that an endpoint is for: what is done to its update object."""

    def told_uri(self, uri: str) -> None:
        """5/0/1 was written: where a package is to be fetched, or nothing to take all back."""

    async def take_block(self, at: int, data: bytes, *, last: bool) -> bool:
        """A block of 5/0/0; False if there is none before it."""

    def told_to_update(self) -> str | None:
        """5/0/2 was executed; why not, if not."""


class Endpoint:
    """A port of its own, with what is read there by path."""

    def __init__(self, owner: Owner, values: dict[str, Callable[[], object]]) -> None:
        self._owner, self._values = owner, values
        self._context: aiocoap.Context | None = None
        self._served: dict[str, _Value] = {}
        self._port = 0

    @property
    def up(self) -> bool:
        """Whether it is there."""
        return self._context is not None

    async def open(self, security: Any, server: str) -> None:
        """Opens its port, the same as before where that is free; ``security`` is for whatever is said to and by it."""
        self._served = {path: _Value(path, get) for path, get in self._values.items()}
        site = resource.Site()
        for path, value in self._served.items():
            site.add_resource(path.split("/"), value)
        site.add_resource(objects.PACKAGE.split("/"), _Package(self._owner))
        site.add_resource(objects.PACKAGE_URI.split("/"), _PackageUri(self._owner))
        site.add_resource(objects.UPDATE.split("/"), _Update(self._owner))
        credentials = aiocoap.credentials.CredentialsMap()
        credentials[":service"] = security
        guarded = OscoreSiteWrapper(site, credentials)
        create = aiocoap.Context.create_server_context
        try:
            self._context = await create(guarded, bind=("127.0.0.1", self._port), transports=TRANSPORTS)
        except OSError:
            self._context = await create(guarded, bind=("127.0.0.1", 0), transports=TRANSPORTS)
        self._context.client_credentials[f"{server}/*"] = security

    async def close(self) -> None:
        """The device is away: nobody hears what is said to it."""
        context, self._context = self._context, None
        if context is not None:
            await context.shutdown()

    def tell(self, *paths: str) -> None:
        """Values have changed; who observes them is told."""
        for path in paths:
            if path in self._served:
                self._served[path].updated_state()

    async def ask(self, request: Message, *, whole: bool = True) -> Message:
        """Sends a request of the device's own."""
        if self._context is None:
            raise error.NetworkError("the device is away")
        answer: Message = await self._context.request(request, handle_blockwise=whole).response
        return answer


class _Value(resource.ObservableResource):  # type: ignore[misc]
    def __init__(self, path: str, get: Callable[[], object]) -> None:
        super().__init__()
        self._path, self._get = path, get

    async def render_get(self, request: Message) -> Message:
        value = self._get()
        if value is None:
            raise error.NotFound
        if isinstance(value, bytes):
            return Message(payload=value, content_format=Format.OPAQUE)
        if isinstance(value, list):
            # Only a format with names has room for several instances.
            pack = [{"bn": f"/{self._path}/", "n": str(number), "v": one} for number, one in enumerate(value)]
            return Message(payload=json.dumps(pack).encode(), content_format=Format.SENML_JSON)
        return Message(payload=str(value).encode(), content_format=Format.TEXT)


class _Package(resource.Resource):  # type: ignore[misc]
    """5/0/0, block by block as they come: a package is larger than the device's memory."""

    def __init__(self, owner: Owner) -> None:
        super().__init__()
        self._owner = owner

    async def needs_blockwise_assembly(self, request: Message) -> bool:
        return False

    async def render_put(self, request: Message) -> Message:
        block = request.opt.block1
        at = 0 if block is None else block.block_number << block.size_exponent + 4
        last = block is None or not block.more
        if not await self._owner.take_block(at, request.payload, last=last):
            return Message(code=Code.REQUEST_ENTITY_INCOMPLETE, payload=b"the blocks before it are not here")
        return Message(code=Code.CHANGED if last else Code.CONTINUE, block1=block)


class _PackageUri(resource.Resource):  # type: ignore[misc]
    def __init__(self, owner: Owner) -> None:
        super().__init__()
        self._owner = owner

    async def render_put(self, request: Message) -> Message:
        try:
            self._owner.told_uri(request.payload.decode())
        except UnicodeDecodeError:
            raise error.BadRequest("a URI is text") from None
        return Message(code=Code.CHANGED)


class _Update(resource.Resource):  # type: ignore[misc]
    def __init__(self, owner: Owner) -> None:
        super().__init__()
        self._owner = owner

    async def render_post(self, request: Message) -> Message:
        why_not = self._owner.told_to_update()
        if why_not is not None:
            return Message(code=Code.METHOD_NOT_ALLOWED, payload=why_not.encode())
        return Message(code=Code.CHANGED)

"""Where devices register (OMA LwM2M 1.1, transport 6.4): ``/rd`` takes a device's name, lifetime, binding and objects;
what it answers with is renewed before the lifetime is over, or given up."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from aiocoap import Code, Message, error, resource

from mellow_herald.core.coap.links import read_links
from mellow_herald.core.coap.values import Format
from mellow_herald.core.refusal import Refused
from mellow_herald.service.coap.bridge import Bridge, Speaker
from mellow_herald.service.problems import say_trouble
from mellow_herald.store.trouble import is_away

LONGEST_LIFETIME_S = 2**31 - 1
LINKS = 40
# A database that is away is asked for again after so long (s).
AGAIN_S, AWAY = 5, "The database does not answer. Come again."


@dataclass(frozen=True, slots=True)
class Asked:
    """What a registration says; None: nothing. ``objects`` are paths."""

    name: str | None
    lifetime_s: int | None
    queue: bool | None
    objects: frozenset[str] | None


def read_registration(request: Message) -> Asked:
    """What a device says of itself; raises a 4.00 with the reason for what cannot be read."""
    query: dict[str, str] = {}
    for part in request.opt.uri_query:
        name, _, value = part.partition("=")
        query[name] = value
    lifetime = query.get("lt")
    if lifetime is not None and not _is_lifetime(lifetime):
        raise error.BadRequest(f"lt={lifetime[:20]} is no lifetime: write seconds, as in lt=300.")
    objects = None
    if request.payload:
        if request.opt.content_format not in (None, LINKS, Format.TEXT):
            raise error.UnsupportedContentFormat("The objects are a link list: application/link-format (40).")
        try:
            objects = read_links(request.payload)
        except Refused as refused:
            raise error.BadRequest(str(refused)) from None
    return Asked(
        query.get("ep"),
        None if lifetime is None else int(lifetime),
        _queue(query),
        objects,
    )


def _is_lifetime(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) <= 10 and 0 < int(text) <= LONGEST_LIFETIME_S


def _queue(query: Mapping[str, str]) -> bool | None:
    """Whether a device asks for queue mode: version 1.1 has a flag of its own, 1.0 a Q in the binding."""
    if "Q" in query:
        return True
    binding = query.get("b")
    if binding is None:
        return None
    if "U" not in binding:
        raise error.BadRequest(f"b={binding[:8]}: the service is reached by UDP only; write b=U.")
    return "Q" in binding


class Served(resource.Resource):  # type: ignore[misc]
    """What the bridge answers. A database that is away is no fault of the device's: it is to come again."""

    def __init__(self, bridge: Bridge) -> None:
        super().__init__()
        self._bridge = bridge

    async def render(self, request: Message) -> Message:
        """Answers one request."""
        try:
            return await super().render(request)
        except Exception as failed:
            if not is_away(failed):
                raise
            say_trouble("a device could not be answered by CoAP", failed)
            return Message(code=Code.SERVICE_UNAVAILABLE, max_age=AGAIN_S, payload=AWAY.encode())


class Directory(Served):
    """``/rd``."""

    rt = "core.rd"

    async def render_post(self, request: Message) -> Message:
        """Registers a device."""
        asked = read_registration(request)
        if asked.objects is None:
            raise error.BadRequest("Say which objects there are: </3/0>,</5/0>.")
        location = await self._bridge.register(Speaker.of(request.remote), asked)
        return Message(code=Code.CREATED, location_path=("rd", location))


class Registrations(Served, resource.PathCapable):  # type: ignore[misc]
    """What stands below ``/rd`` for each registration."""

    async def render_post(self, request: Message) -> Message:
        """Renews a registration."""
        await self._bridge.renew(Speaker.of(request.remote), self._location(request), read_registration(request))
        return Message(code=Code.CHANGED)

    async def render_delete(self, request: Message) -> Message:
        """Gives a registration up."""
        await self._bridge.deregister(Speaker.of(request.remote), self._location(request))
        return Message(code=Code.DELETED)

    def _location(self, request: Message) -> str:
        path: tuple[str, ...] = request.opt.uri_path
        if len(path) != 1:
            raise error.NotFound("There is no such registration. Register anew at /rd.")
        return path[0]


class PackageShelf(Served, resource.PathCapable):  # type: ignore[misc]
    """``/p/TICKET``: the package that a device was told to fetch. Any block may be asked for, so a transfer that broke
    off goes on where it was, after a restart of the service too."""

    async def needs_blockwise_assembly(self, request: Message) -> bool:
        """Each block is answered by itself."""
        return False

    async def render_get(self, request: Message) -> Message:
        """One block of a package."""
        path: tuple[str, ...] = request.opt.uri_path
        found = await self._bridge.find_package(Speaker.of(request.remote), path[0] if len(path) == 1 else "")
        asked = request.opt.block2
        number, exponent = (0, found.exponent) if asked is None else (asked.block_number, min(6, asked.size_exponent))
        if number == 0:
            exponent = min(exponent, found.exponent)
        size = 1 << exponent + 4
        at = number * size
        if at >= len(found.package):
            raise error.BadOption(f"The package has {len(found.package)} bytes: there is no block {number} of {size}.")
        chunk = found.package[at : at + size]
        until = at + len(chunk)
        found.served(until, len(found.package))
        more = until < len(found.package)
        answer = Message(payload=chunk, etag=found.etag, content_format=Format.OPAQUE, block2=(number, more, exponent))
        if number == 0:
            answer.opt.size2 = len(found.package)
        return answer


def make_site(bridge: Bridge) -> Any:
    """What is served."""
    site = resource.Site()
    site.add_resource(["rd"], Directory(bridge))
    site.add_resource(["rd"], Registrations(bridge))
    site.add_resource(["p"], PackageShelf(bridge))
    site.add_resource([".well-known", "core"], resource.WKCResource(site.get_resources_as_linkheader, impl_info=None))
    return site

"""The calls about devices on narrow radio, and their sessions."""

from mellow_herald.client.calls import API, Call, get, post
from mellow_herald.wire.model import Page
from mellow_herald.wire.radio import RadioDeviceOut, RadioEntries, RadioNetworkOut, RadioReport, RadioSessionOut


def show_network() -> Call[RadioNetworkOut]:
    """The radio network."""
    return get("asking for the radio network", f"{API}/radio/network", RadioNetworkOut)


def list_radio_devices(limit: int, after: str | None) -> Call[Page[RadioDeviceOut]]:
    """A page of devices on narrow radio."""
    return get(
        "listing devices on narrow radio", f"{API}/radio/devices", Page[RadioDeviceOut], limit=limit, after=after
    )


def show_radio_device(serial: str) -> Call[RadioDeviceOut]:
    """A device's radio."""
    return get(f"looking at the radio of {serial}", f"{API}/radio/devices/{serial}", RadioDeviceOut)


def record_radio_devices(request: RadioEntries) -> Call[RadioReport]:
    """Records what is known of radios."""
    return post("recording radio facts", f"{API}/radio/devices", RadioReport, request, repeatable=True)


def list_sessions(rollout_id: int) -> Call[list[RadioSessionOut]]:
    """The sessions of a rollout."""
    path = f"{API}/rollouts/{rollout_id}/radio_sessions"
    return get(f"listing the sessions of rollout {rollout_id}", path, list[RadioSessionOut])


def show_session(session_id: int) -> Call[RadioSessionOut]:
    """One session."""
    return get(f"looking at session {session_id}", f"{API}/radio/sessions/{session_id}", RadioSessionOut)

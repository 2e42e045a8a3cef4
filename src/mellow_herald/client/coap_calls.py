"""The calls about devices that speak CoAP."""

from mellow_herald.client.calls import API, Call, get, post
from mellow_herald.wire.coap import CoapDeviceOut, CoapSecret, CoapServiceOut, SecretIn
from mellow_herald.wire.model import Page


def show_coap() -> Call[CoapServiceOut]:
    """Where CoAP is served."""
    return get("asking where CoAP is served", f"{API}/coap", CoapServiceOut)


def list_coap_devices(limit: int, after: str | None) -> Call[Page[CoapDeviceOut]]:
    """A page of devices that speak CoAP."""
    return get("listing devices that speak CoAP", f"{API}/coap/devices", Page[CoapDeviceOut], limit=limit, after=after)


def show_coap_device(serial: str) -> Call[CoapDeviceOut]:
    """A device that speaks CoAP."""
    return get(f"looking at how {serial} speaks CoAP", f"{API}/coap/devices/{serial}", CoapDeviceOut)


def renew_coap_secret(serial: str, request: SecretIn) -> Call[CoapSecret]:
    """Gives a device a new secret."""
    return post(f"renewing the secret of {serial}", f"{API}/coap/devices/{serial}/secret", CoapSecret, request)

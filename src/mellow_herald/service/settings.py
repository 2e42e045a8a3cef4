"""Settings of the service, from options, environment (``HERALD_…``) or their defaults."""

from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict

DEFAULT_PORT = 8410
LOOPBACK = frozenset({"127.0.0.1", "::1", "localhost"})


class Settings(BaseSettings):
    """What can be set. Sizes are bytes; session and token lifetimes are real time. ``listener_fd`` is the socket that a
    worker takes over from the process that started it. ``trusted_proxy``: addresses (comma-separated, or networks) of
    proxies that are believed when they say for whom they call (``X-Forwarded-For``); nobody else is. ``webhook_allow``:
    networks that webhooks may go to although they are not of the internet. ``images`` is an object store to keep images
    in (``s3://bucket/prefix``), None for the data folder; ``front_images`` the path within a front server that
    has them, None where it does not hand them out. ``radio`` is where a radio network is reached (None: there is none),
    ``radio_token`` what it asks for. ``coap_port`` is where CoAP is served (UDP; None: nowhere), with ``coap_open`` to
    what is not protected, too; ``coap_packages`` the URL under which devices that fetch by HTTP reach this service.
    ``coap_alone`` is for the process that does nothing else. ``readings_days`` is for how many days each value of the
    readings is kept, ``rollups_days`` for how many what was rolled up of them."""

    model_config = SettingsConfigDict(env_prefix="HERALD_")

    data_dir: Path = Path("data")
    host: str = "127.0.0.1"
    port: int = Field(default=DEFAULT_PORT, ge=0, le=65535)
    database_url: str | None = None
    time_scale: float = Field(default=1.0, gt=0, le=10_000)
    upload_limit: int = Field(default=1024**3, gt=0)
    workers: int = Field(default=1, ge=1, le=64)
    listener_fd: int | None = None
    session_hours: int = Field(default=12, gt=0)
    admin_password: str | None = None
    secure_cookie: bool | None = None
    trusted_proxy: str | None = None
    webhook_allow: str | None = None
    images: str | None = None
    front_images: str | None = None
    radio: str | None = None
    radio_token: str | None = None
    coap_port: int | None = Field(default=None, ge=1, le=65535)
    coap_open: bool = False
    coap_packages: str | None = None
    coap_alone: bool = False
    readings_days: int = Field(default=30, ge=1, le=3650)
    rollups_days: int = Field(default=365, ge=1, le=36_500)

    @property
    def cookies_are_secure(self) -> bool:
        """Whether browsers send the session's cookie by HTTPS only: unless said otherwise, where others can listen."""
        return self.secure_cookie if self.secure_cookie is not None else self.host not in LOOPBACK

"""Settings: every one with default, unit and help. Read from the environment as DUSKY_SIEVE_NAME."""

from pathlib import Path

from platformdirs import user_data_path
from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """How the application runs."""

    model_config = SettingsConfigDict(env_prefix="DUSKY_SIEVE_", extra="forbid", frozen=True)

    data: Path = Field(
        default_factory=lambda: user_data_path("dusky-sieve"), description="folder for the database and the photos"
    )
    host: str = Field(default="127.0.0.1", description="address to listen on; loopback unless the owner opens it")
    port: int = Field(default=8137, ge=1, le=65535, description="port to listen on")
    hosts: tuple[str, ...] = Field(default=("127.0.0.1", "localhost"), description="host names that requests may carry")
    phones: bool = Field(
        default=False, description="let phones on this network open the page of a code shown at the desk"
    )
    max_upload_mb: int = Field(default=40, ge=1, le=200, description="largest upload, megabytes")
    person: str = Field(default="You", description="name put beside what is done")
    room: str = Field(default="Print room", description="name of the room, shown at the top")
    currency: str = Field(default="€", description="sign put before amounts of money")

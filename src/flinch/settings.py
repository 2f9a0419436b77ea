"""Settings, from environment variables FLINCH_*."""

from __future__ import annotations

from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict

PROJECT = Path(__file__).resolve().parents[2]
_INSTALLED = Path(__file__).with_name("interface")
"""Where a wheel has the built interface."""


class Settings(BaseSettings):
    """Where things are. `columns` is the folder that keeps the markets' arrays from one start to the next, `inbox` the one that
    keeps files which are to be loaded; without one they go with the process."""

    model_config = SettingsConfigDict(env_prefix="FLINCH_")
    columns: Path | None = None
    inbox: Path | None = None
    interface: Path = _INSTALLED if _INSTALLED.is_dir() else PROJECT / "ui" / "dist"

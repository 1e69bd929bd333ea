"""Keeping layouts: drafts and versions."""

from __future__ import annotations

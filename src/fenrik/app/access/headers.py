"""Headers that tell browsers what pages and answers of Fenrik may do: nothing from elsewhere, nothing in frames."""

from __future__ import annotations

import base64
import hashlib
import re

from secure import (
    ContentSecurityPolicy,
    CrossOriginOpenerPolicy,
    CrossOriginResourcePolicy,
    PermissionsPolicy,
    ReferrerPolicy,
    Secure,
    StrictTransportSecurity,
    XContentTypeOptions,
    XFrameOptions,
)

_STYLE = re.compile(rb"<style>(.*?)</style>", re.DOTALL)


def usual(secured: bool) -> dict[str, str]:
    """Headers of every answer.

    Args:
        secured: whether people reach the server by TLS; their browsers then keep to it.
    """
    hsts = StrictTransportSecurity().max_age(31_536_000) if secured else None
    found = Secure(
        csp=_nothing(),
        coop=CrossOriginOpenerPolicy().same_origin(),
        corp=CrossOriginResourcePolicy().same_origin(),
        hsts=hsts,
        permissions=PermissionsPolicy().geolocation().microphone().camera(),
        referrer=ReferrerPolicy().no_referrer(),
        xcto=XContentTypeOptions().nosniff(),
        xfo=XFrameOptions().deny(),
    )
    return dict(found.headers)


def _nothing() -> ContentSecurityPolicy:
    return ContentSecurityPolicy().default_src("'none'").frame_ancestors("'none'").base_uri("'none'")


def policy_of_page(nonce: str) -> str:
    """Content security policy of the application's page: its own files, and styles that carry the nonce."""
    policy = (
        _nothing()
        .script_src("'self'")
        .style_src("'self'", f"'nonce-{nonce}'")
        .img_src("'self'", "data:", "blob:")
        .font_src("'self'", "data:")
        .connect_src("'self'")
        .worker_src("'self'")
        .form_action("'self'")
    )
    return policy.header_value


def policy_of_script() -> str:
    """Content security policy of a script that may run as a worker: it has its own, and hears events from here."""
    return _nothing().script_src("'self'").connect_src("'self'").header_value


def policy_of_document(html: bytes) -> str:
    """Content security policy of a document with styles of its own, and nothing else; told by their hashes."""
    hashes = [
        "'sha256-" + base64.b64encode(hashlib.sha256(style).digest()).decode() + "'" for style in _STYLE.findall(html)
    ]
    return _nothing().style_src(*(hashes or ["'none'"])).header_value

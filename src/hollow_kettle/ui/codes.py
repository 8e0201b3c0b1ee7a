"""Codes that a phone's camera reads, as drawings."""

import segno
from django.utils.safestring import SafeString, mark_safe


def drawn_code(text: str) -> SafeString:
    """A QR code (ISO/IEC 18004, level M) as SVG that fills the box it is put in."""
    code = segno.make(text, error="m", micro=False)
    return mark_safe(  # noqa: S308 - made here; the text is only in its squares
        code.svg_inline(border=0, omitsize=True, svgclass="code", lineclass="")
    )

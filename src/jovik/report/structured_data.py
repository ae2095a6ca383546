"""A review as linked data: JSON-LD 1.1 in the vocabulary of schema.org."""

from __future__ import annotations

import re
from typing import Any

from jovik.sheets.sheet import Drive


def linked_data(
    drive: Drive, sentence: str, measured: tuple[str, str], drive_class: str
) -> dict[str, Any]:
    """Return the review of a drive, which is a product.

    Parameters
    ----------
    sentence : str
        Whether to buy it, and why.
    measured : tuple of str
        The days of the first and the last measurement, ISO 8601.
    drive_class : str
        Its class, empty if it is unknown.
    """
    product: dict[str, Any] = {"@type": "Product", "name": drive.name}
    if drive.maker:
        product["brand"] = {"@type": "Brand", "name": drive.maker}
    if drive.model:
        product["model"] = drive.model
    if drive_class:
        product["category"] = drive_class
    # The vocabulary wants the three letters of ISO 4217.
    if drive.price and re.fullmatch("[A-Z]{3}", drive.currency):
        offer = {"@type": "Offer", "price": f"{drive.price:.2f}", "priceCurrency": drive.currency}
        product["offers"] = offer
    return {
        "@context": "https://schema.org",
        "@type": "Review",
        "name": drive.name,
        "reviewBody": sentence,
        "temporalCoverage": "/".join(dict.fromkeys(measured)),
        "itemReviewed": product,
    }

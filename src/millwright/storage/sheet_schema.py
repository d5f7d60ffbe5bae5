"""The JSON Schema of a model sheet, by which editors complete and check it while it is written.

It covers the layout: parts, their types and the settings of a fit. Definitions are texts of the
model language, which the library itself reads.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

__all__ = ["fit_properties", "sheet_schema"]

_DEFINITIONS = {
    "type": "object",
    "additionalProperties": {"type": ["string", "number"]},
}

_FORM = {"type": "string", "enum": ["informed", "centred", "non-centred"]}


def _described(words: str, schema: dict[str, Any]) -> dict[str, Any]:
    return {"description": words, **schema}


_VALUES: dict[str, Any] = {
    "type": "object",
    "minProperties": 1,
    "additionalProperties": {
        "oneOf": [
            {"type": "number"},
            {"type": "array"},
            {"type": "object", "additionalProperties": {"type": "number"}},
        ]
    },
}


def _whole(least: int, words: str) -> dict[str, Any]:
    return _described(words, {"type": "integer", "minimum": least})


def _one_of(choices: tuple[str, ...], words: str) -> dict[str, Any]:
    return _described(words, {"type": "string", "enum": list(choices)})


def fit_properties(methods: Mapping[str, tuple[str, ...]]) -> dict[str, Any]:
    """Return the settings of a fit that a sheet may state, each with its schema.

    Parameters
    ----------
    methods
        The names of the settings of each method of sampling.
    """
    return {
        "chains": _whole(1, "Number of chains."),
        "draws": _whole(1, "Draws kept, each chain."),
        "warmup": _whole(0, "Draws discarded first."),
        "thin": _whole(1, "Keep every k-th draw only."),
        "seed": _whole(0, "Any whole number: the same gives the same draws."),
        "max_depth": _whole(1, "A trajectory has at most 2^max_depth steps."),
        "workers": _whole(1, "Chains at a time."),
        "target_acceptance": _described(
            "Higher means smaller, safer steps.",
            {"type": "number", "exclusiveMinimum": 0, "exclusiveMaximum": 1},
        ),
        "method": _one_of(tuple(methods), "How to sample."),
        "method_settings": _described(
            "Settings of the method's own.",
            {
                "type": "object",
                "propertyNames": {"enum": sorted({c for some in methods.values() for c in some})},
                "additionalProperties": {"type": ["string", "number", "boolean"]},
            },
        ),
        "parameterisation": _described(
            "How group effects are sampled: one form for all, or one for each name.",
            {
                "oneOf": [_FORM, {"type": "object", "additionalProperties": _FORM}],
            },
        ),
        "metric": _one_of(("automatic", "diagonal", "dense"), "What the warm-up learns."),
        "start": _described(
            "Values at which chains begin: one table for all, or one for each chain.",
            {"oneOf": [_VALUES, {"type": "array", "items": _VALUES, "minItems": 1}]},
        ),
        "missing": _one_of(("refuse", "drop", "predict"), "Rows without an outcome."),
    }


def sheet_schema(methods: Mapping[str, tuple[str, ...]]) -> dict[str, Any]:
    """Return the schema (JSON Schema, draft 2020-12), for these methods and their settings."""
    names = {
        "type": "object",
        "additionalProperties": {
            "oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]
        },
    }
    labels = {
        "type": "object",
        "additionalProperties": {
            "oneOf": [
                {"type": "string"},
                {"type": "array", "items": {"type": ["string", "integer"]}},
            ]
        },
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Model sheet",
        "type": "object",
        "additionalProperties": False,
        "properties": {
            "title": _described("What the model is about.", {"type": "string"}),
            "notes": _described("Anything else worth saying.", {"type": "string"}),
            "priors": _described("A distribution for each unknown.", _DEFINITIONS),
            "likelihood": _described("A distribution for each outcome column.", _DEFINITIONS),
            "derived": _described("Quantities computed from the others.", _DEFINITIONS),
            "log_density_terms": _described("Expressions added to the log density.", _DEFINITIONS),
            "columns": _described("Other names for data columns.", names),
            "labels": _described("Label sets that are not a single column.", labels),
            "units": _described(
                "Units of quantities and columns, as tables and figures show them.",
                {"type": "object", "additionalProperties": {"type": "string", "minLength": 1}},
            ),
            "fit": _described(
                "Settings of a fit; options of a command win over them.",
                {
                    "type": "object",
                    "additionalProperties": False,
                    "properties": fit_properties(methods),
                },
            ),
        },
    }

"""What a study of several series says of its choices."""

from __future__ import annotations

from millwright.studies.autoregression_data import LEVEL
from millwright.studies.autoregression_model import READING, Autoregression

__all__ = ["choice_words"]


def choice_words(parts: Autoregression) -> tuple[str, ...]:
    rules, made = parts.rules, parts.data
    if rules.conjugate:
        return _conjugate_words(parts)
    lines = [
        f"Prior before the first step: `{LEVEL}`, each series at the means of all, normal around "
        "its mean with 2 of its sds; the slope on its own last reading normal("
        f"{rules.first_lag:g}, {rules.tightness:g}), at lag l sd {rules.tightness:g} / l around "
        f"0; on other series {rules.cross:g} of that, times the ratio of noises (Litterman 1986).",
        "Noises for that: what each series' own past leaves unexplained by least squares: "
        + ", ".join(
            f"{name} {noise:.3g}" for name, noise in zip(made.series, made.noise, strict=True)
        )
        + ".",
        _error_words(parts),
    ]
    if parts.drifts:
        lines.append(
            "Coefficients are random walks; each sd of steps half-normal, so that over all times "
            f"a slope wanders by about {rules.drift:g} times the ratio of noises, a level by "
            f"{rules.drift:g} of its series' sd."
        )
        if parts.still:
            lines.append(f"Constant: {', '.join(parts.still)}.")
    else:
        lines.append("Coefficients are constant.")
    lines.append(
        "Sampled by Gibbs sweeps: the whole path in one draw (Durbin and Koopman 2002), steps "
        "with the path standardised and as it is (Fruehwirth-Schnatter and Wagner 2010; Yu and "
        "Meng 2011)."
        + " Sds of errors by mixtures of ten normals (Omori et al. 2007), whose error is "
        "corrected by accepting or refusing." * parts.errors_drift
    )
    if len(made.gaps[0]):
        lines.append(
            f"Missing readings are drawn too (`{READING}`); in the visible model below they stand "
            "filled along straight lines."
        )
    return tuple(lines)


def _conjugate_words(parts: Autoregression) -> tuple[str, ...]:
    rules, made = parts.rules, parts.data
    scales = zip(made.terms, parts.shared_scale, strict=True)
    return (
        "Prior: coefficients given the errors' covariance are normal with sds in units of each "
        "equation's error, correlated as the errors are (natural conjugate; Kadiyala and Karlsson "
        f"1997): {', '.join(f'{term} {scale:g}' for term, scale in scales)}. The slope on its own "
        f"last reading is around {rules.first_lag:g}, levels around the means of the series, all "
        "else around 0.",
        _error_words(parts),
        "Coefficients are constant. The posterior is known in closed form: draws are independent.",
    )


def _error_words(parts: Autoregression) -> str:
    if parts.errors_drift:
        return (
            "Errors: each given those of the series before it, on which it leans by slopes "
            "normal(0, the ratio of noises); the log of its sd is a random walk (Primiceri 2005) "
            "that starts at normal(log of the noise, 1), its sd of steps half-normal, so that "
            f"over all times the log sd wanders by about {parts.rules.error_drift:g}. The order "
            "of the series matters to this prior."
        )
    return (
        f"Errors: correlated, covariance inverse Wishart with {parts.degrees:g} degrees of "
        "freedom and these noises squared as its mean, written error by error in the model."
    )

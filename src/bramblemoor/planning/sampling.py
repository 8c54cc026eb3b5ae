"""What a sample says of the whole."""


def most_unreadable(found: int, tried: int, whole: int, confidence: float) -> float:
    """The upper bound of the share of unreadable files at a depot, after `found` of `tried` were unreadable.

    One-sided Clopper-Pearson (1934): the share p at which `found` or fewer bad ones in a sample have the probability
    1 - `confidence`, a quantile of the beta distribution. A sample of the whole leaves nothing to estimate.
    """
    from scipy.stats import beta

    if tried >= whole:
        return found / whole if whole else 0.0
    if found >= tried:
        return 1.0
    return float(beta.ppf(confidence, found + 1, tried - found))

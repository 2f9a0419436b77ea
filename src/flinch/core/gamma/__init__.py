"""Gamma exposure and open interest: who has to hedge what, and where interest is being built."""

from flinch.core.gamma.exposure import (
    DEFAULT_RULE,
    RULE_WORDS,
    SIGN_RULES,
    Exposure,
    SignRule,
    contract_gamma,
    dealer_side,
    exposure_size,
    gamma_exposure,
)
from flinch.core.gamma.interest import (
    SMALL_BASE,
    ByStrike,
    InterestChange,
    LikelySpread,
    by_strike,
    interest_change,
    likely_spreads,
    put_call_ratio,
)
from flinch.core.gamma.profile import Contracts, exposure_profile, gamma_flip, spot_grid
from flinch.core.gamma.summary import Positions, StrikeRows, bucket_of, summarise_positions

__all__ = [
    "DEFAULT_RULE",
    "RULE_WORDS",
    "SIGN_RULES",
    "SMALL_BASE",
    "ByStrike",
    "Contracts",
    "Exposure",
    "InterestChange",
    "LikelySpread",
    "Positions",
    "SignRule",
    "StrikeRows",
    "bucket_of",
    "by_strike",
    "contract_gamma",
    "dealer_side",
    "exposure_profile",
    "exposure_size",
    "gamma_exposure",
    "gamma_flip",
    "interest_change",
    "likely_spreads",
    "put_call_ratio",
    "spot_grid",
    "summarise_positions",
]

"""Historical and implied volatility: estimators, surfaces, constant maturities, rank, earnings, forecast, cone, correlation."""

from flinch.core.volatility.cone import HORIZONS, SHARES, Cone, volatility_cone
from flinch.core.volatility.constant_maturity import (
    ConstantMaturity,
    constant_maturity,
    constant_maturity_vol,
    span_vol,
)
from flinch.core.volatility.correlation import average_correlation, return_correlations, weighted_vol
from flinch.core.volatility.earnings import ExEarnings, ex_earnings, reports_before
from flinch.core.volatility.estimators import ESTIMATORS, Estimator, historical_vol
from flinch.core.volatility.forecast import (
    ForecastErrors,
    forecast_errors,
    forecast_vol,
    realised_ahead,
    session_variance,
)
from flinch.core.volatility.rank import LOOKBACK, MIN_OBSERVATIONS, observed_sessions, vol_percentile, vol_rank
from flinch.core.volatility.smile import SmileFit, delta_vol, fit_smiles, raw_svi, smile_vol

__all__ = [
    "ESTIMATORS",
    "HORIZONS",
    "LOOKBACK",
    "MIN_OBSERVATIONS",
    "SHARES",
    "Cone",
    "ConstantMaturity",
    "Estimator",
    "ExEarnings",
    "ForecastErrors",
    "SmileFit",
    "average_correlation",
    "constant_maturity",
    "constant_maturity_vol",
    "delta_vol",
    "ex_earnings",
    "fit_smiles",
    "forecast_errors",
    "forecast_vol",
    "historical_vol",
    "observed_sessions",
    "raw_svi",
    "realised_ahead",
    "reports_before",
    "return_correlations",
    "session_variance",
    "smile_vol",
    "span_vol",
    "vol_percentile",
    "vol_rank",
    "volatility_cone",
    "weighted_vol",
]

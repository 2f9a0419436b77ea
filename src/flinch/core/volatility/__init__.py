"""Historical and implied volatility: estimators, smiles, constant maturities, rank and percentile."""

from flinch.core.volatility.constant_maturity import ConstantMaturity, constant_maturity, constant_maturity_vol
from flinch.core.volatility.estimators import ESTIMATORS, Estimator, historical_vol
from flinch.core.volatility.rank import LOOKBACK, MIN_OBSERVATIONS, observed_sessions, vol_percentile, vol_rank
from flinch.core.volatility.smile import SmileFit, fit_smiles

__all__ = [
    "ESTIMATORS",
    "LOOKBACK",
    "MIN_OBSERVATIONS",
    "ConstantMaturity",
    "Estimator",
    "SmileFit",
    "constant_maturity",
    "constant_maturity_vol",
    "fit_smiles",
    "historical_vol",
    "observed_sessions",
    "vol_percentile",
    "vol_rank",
]

#!/usr/bin/env python3
"""Values of regressions with autoregressive errors for tests/core/serial_errors_test.cpp: exact likelihood by a
general-purpose library's state space form, polished. Arguments: the folder of the open tables."""
import csv
import sys
import warnings

import numpy as np
from scipy.optimize import minimize
from statsmodels.tsa.arima.model import ARIMA

warnings.simplefilter("ignore")
folder = sys.argv[1]


def column(name, key):
    with open(f"{folder}/{name}.csv") as f:
        return np.array([float(r[key]) for r in csv.DictReader(f)])


def fit(name, y, x, order, gaps=()):
    y = y.copy()
    y[list(gaps)] = np.nan
    model = ARIMA(y, exog=x, order=(order, 0, 0), trend="c", enforce_stationarity=True)
    found = model.fit()
    best = found.params
    for _ in range(3):
        polished = minimize(lambda p: -model.loglike(p), best, method="Nelder-Mead",
                            options={"xatol": 1e-11, "fatol": 1e-12, "maxiter": 40000, "maxfev": 40000,
                                     "adaptive": True})
        best = polished.x
    print(name, "order", order, "loglik %.9f" % model.loglike(best))
    print("  params", ", ".join("%.9g" % p for p in best))
    ahead = model.smooth(best).get_forecast(
        5, exog=None if x is None else np.tile(x[-1], (5, 1)) + np.arange(1, 6)[:, None])
    print("  forecast", ", ".join("%.9g" % v for v in ahead.predicted_mean))
    print("  forecast sd", ", ".join("%.9g" % v for v in np.sqrt(ahead.var_pred_mean)))


nile = column("nile", list(csv.DictReader(open(f"{folder}/nile.csv")).fieldnames)[-1])
t = np.arange(len(nile), dtype=float)
for p in (1, 2, 3):
    fit("nile, trend", nile, t[:, None], p)
fit("nile, trend, gaps", nile, t[:, None], 2, gaps=(10, 11, 12, 40, 77))
sun = column("sunspots", list(csv.DictReader(open(f"{folder}/sunspots.csv")).fieldnames)[-1])
fit("sunspots", sun, np.arange(len(sun), dtype=float)[:, None], 2)

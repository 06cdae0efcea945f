#!/usr/bin/python3
"""Values for the tests of estimators, errors and terms, from the published rows beside it.

Run by hand: /usr/bin/python3 tests/reference/make/estimators_values.py
Needs python3-statsmodels 0.13.5, python3-scipy 1.10.1, python3-patsy. Quantiles are solved as linear programmes by
scipy's HiGHS; their errors follow the formulas in the comments, in numpy.
"""
import csv
import json
import pathlib

import numpy as np
import patsy
import scipy.optimize
import scipy.stats
import statsmodels.api as sm

here = pathlib.Path(__file__).resolve().parent.parent / "published"


def load(name):
    with open(here / "csv" / (name + ".csv")) as f:
        data = list(csv.DictReader(f))
    return {k: np.array([float(r[k]) for r in data]) for k in data[0]}


d = load("diabetes")
names = ["bmi", "bp", "s5"]
X = sm.add_constant(np.column_stack([d[k] for k in names]))
y = d["y"]
n, k = X.shape
out = {"data": "csv/diabetes.csv: y on 1, bmi, bp, s5", "computed_by": __doc__.split("\n")[3]}


def said(fit, **more):
    return dict(coef=list(fit.params), se=list(fit.bse), p=list(fit.pvalues), **more)


ols = sm.OLS(y, X).fit()
out["errors"] = {kind: said(sm.OLS(y, X).fit(cov_type=kind, use_t=True)) for kind in ["HC0", "HC1", "HC2", "HC3"]}
out["errors"]["wald_hc3_bmi_bp"] = float(sm.OLS(y, X).fit(cov_type="HC3", use_t=True).f_test("x1 = 0, x2 = 0").fvalue)
groups = d["age"].astype(int)
out["errors"]["by_age"] = said(sm.OLS(y, X).fit(cov_type="cluster", cov_kwds=dict(groups=groups), use_t=True))
time = np.searchsorted(np.unique(groups), groups)
order = np.argsort(time, kind="stable")
hac = sm.OLS(y[order], X[order]).fit(cov_type="hac-groupsum", cov_kwds=dict(time=time[order], maxlags=4), use_t=True)
# The library's small-sample factor for groups differs; ours is n/(n-k).
out["errors"]["serial_age_4"] = dict(
    coef=list(hac.params), se=list(np.sqrt(np.diag(sm.stats.sandwich_covariance.cov_nw_groupsum(
        sm.OLS(y[order], X[order]).fit(), 4, time[order], use_correction=0)) * n / (n - k))))
longley = load("longley")
LX = sm.add_constant(np.column_stack([longley[c] for c in ["GNP", "ARMED"]]))
lh = sm.OLS(longley["TOTEMP"], LX).fit(cov_type="HAC", cov_kwds=dict(maxlags=2, use_correction=True), use_t=True)
out["errors"]["longley_newey_west_2"] = said(lh)

w = d["age"]
wls = sm.WLS(y, X, weights=w).fit()
out["weighted_by_age"] = said(wls, rss=float(wls.ssr), tss=float(wls.centered_tss), r2=float(wls.rsquared),
                              llf=float(wls.llf), hc3=list(sm.WLS(y, X, weights=w).fit(cov_type="HC3").bse),
                              leverage=list(np.einsum("ij,jk,ik->i", X, np.linalg.inv((X.T * w) @ X), X)[:5] * w[:5]))
out["llf"] = float(ols.llf)

logs = sm.OLS(np.log(y), X).fit()
smear = float(np.mean(np.exp(logs.resid)))
out["logs"] = said(logs, smearing=smear, fitted=list((np.exp(logs.fittedvalues) * smear)[:5]),
                   relative_variance=float(np.mean(np.exp(2 * logs.resid)) / smear ** 2 - 1))
off = sm.OLS(y - d["s6"], X).fit()
out["offset_s6"] = said(off)


def quantile(X, y, tau, w=None):
    n, k = X.shape
    w = np.ones(n) if w is None else w
    c = np.concatenate([np.zeros(2 * k), tau * w, (1 - tau) * w])
    A = np.hstack([X, -X, np.eye(n), -np.eye(n)])
    r = scipy.optimize.linprog(c, A_eq=A, b_eq=y, bounds=(0, None), method="highs-ds")
    b = r.x[:k] - r.x[k:2 * k]
    # The vertex again from the rows it fits exactly.
    e = y - X @ b
    rows = np.argsort(np.abs(e))[:k]
    b = np.linalg.solve(X[rows], y[rows])
    e = y - X @ b
    # Powell's kernel with Hall and Sheather's bandwidth (Koenker 2005, 3.4.2).
    z = scipy.stats.norm.ppf(tau)
    h = n ** (-1 / 3) * scipy.stats.norm.ppf(0.975) ** (2 / 3) * (
        1.5 * scipy.stats.norm.pdf(z) ** 2 / (2 * z ** 2 + 1)) ** (1 / 3)
    kappa = min(np.std(e, ddof=1), (np.quantile(e, 0.75) - np.quantile(e, 0.25)) / 1.34)
    h = kappa * (scipy.stats.norm.ppf(tau + h) - scipy.stats.norm.ppf(tau - h))
    near = (np.abs(e) <= h) / (2 * h) * w
    H = np.linalg.inv((X.T * near) @ X)
    V = tau * (1 - tau) * H @ ((X.T * w ** 2) @ X) @ H
    return dict(coef=list(b), se=list(np.sqrt(np.diag(V))), loss=float(r.fun))


engel = load("engel")
EX = sm.add_constant(engel["income"])
out["quantile"] = {
    "engel": {str(t): quantile(EX, engel["foodexp"], t) for t in (0.05, 0.25, 0.5, 0.75, 0.95)},
    "diabetes": {str(t): quantile(X, y, t) for t in (0.1, 0.5, 0.9)},
    "weighted_by_age": quantile(X, y, 0.5, d["age"]),
}

# Terms: the same columns' space by another library's basis, so fitted values and sums of squares agree.


def ssr(formula):
    Y, Z = patsy.dmatrices(formula, {**d, "y": y, "sex": d["sex"].astype(int).astype(str),
                                     "s4": np.minimum(np.round(d["s4"]), 6).astype(int).astype(str)})
    fit = sm.OLS(np.asarray(Y)[:, 0], np.asarray(Z)).fit()
    return fit, Z.design_info.column_names


q = np.quantile(d["bmi"], [0.05, 0.35, 0.65, 0.95])
fit, _ = ssr(f"y ~ cr(bmi, knots=({q[1]!r}, {q[2]!r}), lower_bound={q[0]!r}, upper_bound={q[3]!r}) - 1")
out["terms"] = {"curve_bmi_4": dict(knots=list(q), rss=float(fit.ssr), fitted=list(fit.fittedvalues[:6]))}
t = np.quantile(d["bmi"], [1 / 3, 2 / 3])
P = sm.add_constant(np.column_stack([d["bmi"], np.maximum(d["bmi"] - t[0], 0), np.maximum(d["bmi"] - t[1], 0)]))
out["terms"]["pieces_bmi_2"] = said(sm.OLS(y, P).fit(), knots=list(t))
s4 = np.minimum(np.round(d["s4"]), 6).astype(int)
for contrast in ("Sum", "Poly"):
    fit, columns = ssr(f"y ~ C(s4, {contrast}) + bmi")
    out["terms"]["s4_" + contrast] = dict(columns=columns, coef=list(fit.params), se=list(fit.bse))
W = sm.add_constant(np.column_stack([np.cos(2 * np.pi * d["age"] / 12), np.sin(2 * np.pi * d["age"] / 12),
                                     np.cos(4 * np.pi * d["age"] / 12), np.sin(4 * np.pi * d["age"] / 12)]))
out["terms"]["wave_age_12"] = said(sm.OLS(y, W).fit())
z = (d["bmi"] - d["bmi"].mean()) / d["bmi"].std(ddof=1)
out["terms"]["standardised_bmi"] = said(sm.OLS(y, sm.add_constant(z)).fit(), mean=float(d["bmi"].mean()),
                                        sd=float(d["bmi"].std(ddof=1)))

# An interaction of a number with a factor of two levels, and the slope of each level with its error.
fit, columns = ssr("y ~ bmi * C(sex) + bp")
by = {}
for level, weight in (("1", 0), ("2", 1)):
    vector = np.array([1.0 if c == "bmi" else weight if c.startswith("bmi:") else 0.0 for c in columns])
    test = fit.t_test(vector)
    by[level] = dict(slope=float(test.effect[0]), se=float(np.ravel(test.sd)[0]))
out["terms"]["interaction"] = dict(columns=columns, coef=list(fit.params), se=list(fit.bse), by=by)
(here / "json" / "estimators.json").write_text(json.dumps(out, indent=1) + "\n")

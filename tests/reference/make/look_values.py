#!/usr/bin/python3
"""Values for the tests of the looks, from the published rows beside it.

Run by hand: /usr/bin/python3 tests/reference/make/look_values.py
Needs python3-scipy 1.10.1, python3-statsmodels 0.13.5, python3-numpy 1.24.2, python3-mpmath 1.2.1.
Straight lines, their F test, correlations and moments are worked out with mpmath at 50 digits from the decimal
data; the rest comes from the library named beside it.
"""
import csv
import json
import pathlib

import numpy as np
import scipy.stats as st
import statsmodels.api as sm
import statsmodels.formula.api as smf
from mpmath import mp, mpf, sqrt, log, betainc
from scipy.stats.contingency import association
from statsmodels.stats.multitest import multipletests

mp.dps = 50
here = pathlib.Path(__file__).resolve().parent.parent / "published"


def rows(name):
    with open(here / "csv" / f"{name}.csv") as f:
        return list(csv.DictReader(f))


def column(name, key, kind=mpf):
    return [kind(r[key]) for r in rows(name)]


def f_upper(f, a, b):
    return betainc(mpf(b) / 2, mpf(a) / 2, 0, b / (b + a * f), regularized=True)


def line(x, y):
    n = len(x)
    mx, my = sum(x) / n, sum(y) / n
    sxx = sum((a - mx) ** 2 for a in x)
    sxy = sum((a - mx) * (b - my) for a, b in zip(x, y))
    syy = sum((b - my) ** 2 for b in y)
    slope = sxy / sxx
    rss = syy - slope * sxy
    return dict(rows=n, slope=slope, intercept=my - slope * mx, rss=rss, sxx=sxx, sxy=sxy, syy=syy,
                slope_error=sqrt(rss / (n - 2) / sxx), r_squared=1 - rss / syy)


def floats(d):
    return {k: (float(v) if not isinstance(v, int) else v) for k, v in d.items()}


out = {}

# Slope of disease progression over body mass index in each sex of the diabetes rows, and one slope for both.
bmi, target, sex = column("diabetes", "bmi"), column("diabetes", "y"), column("diabetes", "sex", str)
groups = {g: line([b for b, s in zip(bmi, sex) if s == g], [t for t, s in zip(target, sex) if s == g])
          for g in sorted(set(sex))}
within = sum(g["rss"] for g in groups.values())
sxx, sxy, syy = (sum(g[k] for g in groups.values()) for k in ("sxx", "sxy", "syy"))
common = syy - sxy ** 2 / sxx
df1, df2 = len(groups) - 1, len(bmi) - 2 * len(groups)
f = (common - within) / df1 / (within / df2)
out["equal_slopes"] = dict(groups={k: floats(v) for k, v in groups.items()}, f=float(f), df1=df1, df2=df2,
                           p=float(f_upper(f, df1, df2)), common_slope=float(sxy / sxx))
frame = {"y": [float(v) for v in target], "x": [float(v) for v in bmi], "g": sex}
table = sm.stats.anova_lm(smf.ols("y ~ x + C(g)", frame).fit(), smf.ols("y ~ x * C(g)", frame).fit())
assert abs(table["F"][1] - float(f)) < 1e-9

# Ranks and correlations (mpmath for Pearson, scipy for Spearman).
names = ["age", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"]
out["spearman"] = {n: float(st.spearmanr(column("diabetes", n, float), [float(t) for t in target])[0]) for n in names}
out["pearson"] = {n: float(line(column("diabetes", n), target)["sxy"]
                           / sqrt(line(column("diabetes", n), target)["sxx"] * line(column("diabetes", n), target)["syy"]))
                  for n in names}
out["pearson_s1_s2"] = float(np.corrcoef(column("diabetes", "s1", float), column("diabetes", "s2", float))[0, 1])

# Holm (statsmodels) on the slopes' p values of those columns.
p = [float(f_upper(line(column("diabetes", n), target)["r_squared"] * 440
                   / (1 - line(column("diabetes", n), target)["r_squared"]), 1, 440)) for n in names]
out["holm"] = dict(names=names, p=p, adjusted=list(multipletests(p, method="holm")[1]))

# Cramér's V (scipy) and correlation ratio (mpmath) on the 1996 election study.
anes = rows("anes96")
def cross(a, b):
    la, lb = sorted({r[a] for r in anes}), sorted({r[b] for r in anes})
    t = np.zeros((len(la), len(lb)), int)
    for r in anes:
        t[la.index(r[a]), lb.index(r[b])] += 1
    return t
out["cramers_v"] = dict(PID_educ=float(association(cross("PID", "educ"), method="cramer")),
                        PID_vote=float(association(cross("PID", "vote"), method="cramer")))
age, pid = [mpf(r["age"]) for r in anes], [r["PID"] for r in anes]
mean = sum(age) / len(age)
between = sum(len(g) * (sum(g) / len(g) - mean) ** 2
              for g in ([a for a, q in zip(age, pid) if q == k] for k in set(pid)))
out["correlation_ratio_age_PID"] = float(sqrt(between / sum((a - mean) ** 2 for a in age)))

# Moments (mpmath), quartiles and whiskers (numpy, definition 7) of sunspots.
spots = column("sunspots", list(rows("sunspots")[0])[1])
m = sum(spots) / len(spots)
c = [sum((s - m) ** k for s in spots) / len(spots) for k in range(5)]
out["moments_sunspots"] = dict(mean=float(m), sd=float(sqrt(c[2] * len(spots) / (len(spots) - 1))),
                               skewness=float(c[3] / c[2] ** mpf("1.5")), kurtosis=float(c[4] / c[2] ** 2 - 3))
v = np.array([float(s) for s in spots])
q = np.percentile(v, [25, 50, 75])
low, high = q[0] - 1.5 * (q[2] - q[0]), q[2] + 1.5 * (q[2] - q[0])
out["box_sunspots"] = dict(quartiles=list(q), fences=[low, high], whiskers=[v[v >= low].min(), v[v <= high].max()],
                           beyond=int(((v < low) | (v > high)).sum()))

# Box and Cox: the maximum by mpmath, the interval by its roots, against scipy.
def box_cox(name, key):
    y = column(name, key)
    n = len(y)
    w = [log(v) for v in y]
    mw = sum(w) / n
    def ll(l):
        z = [(mp.expm1(l * (a - mw)) / l) if l != 0 else a - mw for a in w]
        mz = sum(z) / n
        return -mpf(n) / 2 * log(sum((a - mz) ** 2 for a in z) / n) - n * mw
    top = mp.findroot(lambda l: mp.diff(ll, l), mpf(st.boxcox([float(v) for v in y])[1]))
    floor = ll(top) - mpf(st.chi2.ppf(0.95, 1)) / 2
    lo, hi = (mp.findroot(lambda l: ll(l) - floor, top + d) for d in (mpf("-0.5"), mpf("0.5")))
    _, lam, ci = st.boxcox([float(v) for v in y], alpha=0.05)
    assert abs(lam - float(top)) < 1e-5 and abs(ci[0] - float(lo)) < 1e-4 and abs(ci[1] - float(hi)) < 1e-4
    return dict(lambda_=float(top), lower=float(lo), upper=float(hi), log_likelihood=float(ll(top)))
out["box_cox"] = dict(diabetes_target=box_cox("diabetes", "y"),
                      nile_volume=box_cox("nile", list(rows("nile")[0])[1]))

# Normal quantiles with Blom's positions (scipy's normal) of the Nile.
nile = np.sort(np.array([float(x) for x in column("nile", list(rows("nile")[0])[1])]))
z = st.norm.ppf((np.arange(1, len(nile) + 1) - 0.375) / (len(nile) + 0.25))
out["normal_quantiles_nile"] = dict(first=float(z[0]), correlation=float(np.corrcoef(z, nile)[0, 1]))

# Season of electrical equipment orders: year + month (statsmodels).
elec = rows("elec_equip")
key, value = list(elec[0])
dates = [r[key] for r in elec]
frame = {"y": [float(r[value]) for r in elec], "year": [d.split("-")[2] for d in dates], "month": [d.split("-")[0] for d in dates]}
both, less = smf.ols("y ~ C(year) + C(month)", frame).fit(), smf.ols("y ~ C(year)", frame).fit()
table = sm.stats.anova_lm(less, both)
out["season_elec_equip"] = dict(f=float(table["F"][1]), df1=int(table["df_diff"][1]), df2=int(both.df_resid),
                                p=float(table["Pr(>F)"][1]), share=float(1 - both.ssr / less.ssr))

# A smoothing spline by generalised cross-validation (scipy) of the Nile over its years, for comparison.
from scipy.interpolate import make_smoothing_spline
year = np.array([float(r[list(r)[0]]) for r in rows("nile")])
flow = np.array([float(r[list(r)[1]]) for r in rows("nile")])
fit = make_smoothing_spline(year, flow)(year)
out["smoothing_spline_nile"] = dict(r_squared=float(1 - ((flow - fit) ** 2).sum() / ((flow - flow.mean()) ** 2).sum()),
                                    fitted=[float(f) for f in fit[::10]])


# Bends and spread of disease progression over body mass index: the square's F test, the logarithm, and a line
# through the sizes of the residuals about the line (Glejser 1969). statsmodels.
b = np.array([float(v) for v in bmi])
t = np.array([float(v) for v in target])
plain = sm.OLS(t, sm.add_constant(b)).fit()
square = sm.OLS(t, sm.add_constant(np.column_stack([b, b * b]))).fit()
logarithm = sm.OLS(t, sm.add_constant(np.log(b))).fit()
sizes = sm.OLS(np.abs(plain.resid), sm.add_constant(b)).fit()
ends = sizes.predict(sm.add_constant(np.array([b.min(), b.max()])))
out["shape"] = dict(square_r_squared=square.rsquared, square_p=square.pvalues[2],
                    log_r_squared=logarithm.rsquared, spread_p=sizes.pvalues[1],
                    spread_ratio=ends.max() / ends.min(), spread_grows=bool(sizes.params[1] > 0))
(here / "json" / "look.json").write_text(json.dumps(out, indent=1) + "\n")

#!/usr/bin/python3
"""Values for the tests of what would help a fit, from the diabetes rows beside it.

Run by hand: /usr/bin/python3 tests/reference/make/helps_values.py
Needs python3-statsmodels 0.13.5. Each F compares two least-squares fits; the sum over rows left out is that of
the library's influence measures.
"""
import csv
import json
import pathlib

import numpy as np
import statsmodels.formula.api as smf
import statsmodels.api as sm

here = pathlib.Path(__file__).resolve().parent.parent / "published"
with open(here / "csv" / "diabetes.csv") as f:
    data = list(csv.DictReader(f))
frame = {k: np.array([float(r[k]) for r in data]) for k in data[0]}


def compare(less, more):
    a, b = smf.ols(less, frame).fit(), smf.ols(more, frame).fit()
    table = sm.stats.anova_lm(a, b)
    press = (b.get_influence().resid_press ** 2).sum()
    return dict(f=float(table["F"][1]), p=float(table["Pr(>F)"][1]), df1=float(table["df_diff"][1]),
                df2=float(b.df_resid), share=float(1 - b.ssr / a.ssr), press=float(press))


base = "y ~ bmi + bp"
out = {
    "s5": compare(base, base + " + s5"),
    "bmi^2": compare(base, base + " + I(bmi**2)"),
    "ln(bmi)": compare(base, base + " + I(np.log(bmi))"),
    "bmi × bp": compare(base, base + " + I(bmi*bp)"),
    "bmi × s5": compare(base + " + s5", base + " + s5 + I(bmi*s5)"),
    "s1 × s2": compare(base + " + s1 + s2", base + " + s1 + s2 + I(s1*s2)"),
    "sex × bp": compare(base + " + C(sex)", base + " + C(sex) + C(sex):bp"),
    "sex": compare(base, base + " + C(sex)"),
}
out["press"] = float((smf.ols(base, frame).fit().get_influence().resid_press ** 2).sum())
(here / "json" / "diabetes_helps.json").write_text(json.dumps(out, indent=1) + "\n")

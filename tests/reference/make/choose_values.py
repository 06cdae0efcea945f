#!/usr/bin/python3
"""Values for the tests of choosing terms: every subset of ten columns of the diabetes rows, by brute force.

Run by hand: /usr/bin/python3 tests/reference/make/choose_values.py
Needs python3-numpy 1.24. Sums of squares by numpy's least squares; AICc and BIC from them, the spread counting as a
parameter.
"""
import csv
import itertools
import json
import pathlib

import numpy as np

here = pathlib.Path(__file__).resolve().parent.parent / "published"
with open(here / "csv" / "diabetes.csv") as f:
    data = list(csv.DictReader(f))
frame = {k: np.array([float(r[k]) for r in data]) for k in data[0]}
names = ["age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"]
y = frame["y"]
n = len(y)
X = np.column_stack([np.ones(n)] + [(frame[k] - frame[k].mean()) / frame[k].std() for k in names])


def rss(chosen):
    A = X[:, [0] + [names.index(c) + 1 for c in chosen]]
    b = np.linalg.lstsq(A, y, rcond=None)[0]
    return float(((y - A @ b) ** 2).sum())


def criteria(r, k):
    k = k + 2
    base = n * (np.log(2 * np.pi * r / n) + 1)
    return float(base + 2 * k + 2 * k * (k + 1) / (n - k - 1)), float(base + k * np.log(n))


best, found = [], {"aicc": None, "bic": None, "adjusted": None}
tss = ((y - y.mean()) ** 2).sum()
for size in range(11):
    r, chosen = min((rss(c), c) for c in itertools.combinations(names, size))
    best.append(dict(rss=r, terms=list(chosen)))
    aicc, bic = criteria(r, size)
    adjusted = float(1 - r / (n - size - 1) / (tss / (n - 1)))
    for key, value, less in (("aicc", aicc, True), ("bic", bic, True), ("adjusted", adjusted, False)):
        if found[key] is None or (value < found[key]["value"] if less else value > found[key]["value"]):
            found[key] = dict(value=value, terms=list(chosen))

# Forward by BIC, and backward by p, step by step.
forward, now = [], []
while True:
    tried = [(criteria(rss(now + [c]), len(now) + 1)[1], c) for c in names if c not in now]
    if not tried or min(tried)[0] >= criteria(rss(now), len(now))[1]:
        break
    now.append(min(tried)[1])
    forward.append(dict(term=now[-1], bic=min(tried)[0]))
(here / "json" / "choose.json").write_text(json.dumps(
    dict(data="csv/diabetes.csv", computed_by=__doc__.split("\n")[3], best=best, chosen=found, forward_bic=forward),
    indent=1) + "\n")

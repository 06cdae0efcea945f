#!/usr/bin/env python3
"""Values of models of the mean for tests/core/mean_models_test.cpp, in 50 digits (mpmath) by Newton's method
on the score equations; coefficients compared with a general-purpose library where it is installed.

The rows are made of whole numbers, so that any program makes the same ones.
"""
from mpmath import mp, mpf, matrix, log, exp, lu_solve, loggamma, pi

mp.dps = 50
N = 60


def rows(zeros):
    out = []
    for i in range(N):
        a = mpf((i * 7) % 13)
        b = mpf((i * 5) % 11) / 4
        level = (i * 3) % 4 == 0
        y = mpf(((i * i * 17 + i * 29) % 97) + 3) / 8 * (1 + a / 3)
        if zeros and i % 3 == 1:
            y = mpf(0)
        w = mpf(1 + i % 3)
        o = mpf((i % 5) - 2) / 4
        out.append(([mpf(1), a, b, mpf(1 if level else 0)], y, w, o))
    return out


def deviance(p, y, mu):
    if p == 1:
        return 2 * ((y * log(y / mu) if y > 0 else 0) - (y - mu))
    if p == 2:
        return 2 * (-log(y / mu) + (y - mu) / mu)
    if p == 3:
        return (y - mu) ** 2 / (mu ** 2 * y)
    return 2 * ((y ** (2 - p) / ((1 - p) * (2 - p)) if y > 0 else 0) - y * mu ** (1 - p) / (1 - p)
                + mu ** (2 - p) / (2 - p))


def density(p, y, mu, phi):
    if p == 2:
        k = 1 / phi
        return k * log(k * y / mu) - k * y / mu - log(y) - loggamma(k)
    if p == 3:
        return -(log(2 * pi * phi * y ** 3) + deviance(3, y, mu) / phi) / 2
    if p == 1:
        return None
    lam = mu ** (2 - p) / (phi * (2 - p))
    alpha = (2 - p) / (p - 1)
    scale = phi * (p - 1) * mu ** (p - 1)
    if y == 0:
        return -lam
    total = mpf(0)
    for n in range(1, 400):
        a = n * alpha
        total += exp(n * log(lam) - loggamma(n + 1) + (a - 1) * log(y) - a * log(scale) - loggamma(a))
    return log(total) - y / scale - lam


def fit(p, link, data):
    k = 4
    b = matrix(k, 1)
    mean = sum(w * y for _, y, w, _ in data) / sum(w for _, _, w, _ in data)
    b[0] = log(mean) if link == "log" else mean
    for _ in range(200):
        a, g = matrix(k, k), matrix(k, 1)
        for x, y, w, o in data:
            eta = sum(x[j] * b[j] for j in range(k)) + o
            mu = exp(eta) if link == "log" else eta
            d = mu if link == "log" else mpf(1)
            for i in range(k):
                g[i] += w * (y - mu) * d / mu ** p * x[i]
                for j in range(k):
                    a[i, j] += w * d * d / mu ** p * x[i] * x[j]
        step = lu_solve(a, g)
        b += step
        if max(abs(s) for s in step) < mpf(10) ** -40:
            break
    pearson = dev = mpf(0)
    a = matrix(k, k)
    for x, y, w, o in data:
        eta = sum(x[j] * b[j] for j in range(k)) + o
        mu = exp(eta) if link == "log" else eta
        d = mu if link == "log" else mpf(1)
        pearson += w * (y - mu) ** 2 / mu ** p
        dev += w * deviance(p, y, mu)
        for i in range(k):
            for j in range(k):
                a[i, j] += w * d * d / mu ** p * x[i] * x[j]
    phi = pearson / (N - k)
    cov = a ** -1
    errors = [mp.sqrt(phi * cov[j, j]) for j in range(k)]
    likelihood = None
    if p != 1:
        likelihood = mpf(0)
        for x, y, w, o in data:
            eta = sum(x[j] * b[j] for j in range(k)) + o
            mu = exp(eta) if link == "log" else eta
            likelihood += density(p, y, mu, phi / w)
    return b, errors, phi, dev, likelihood


for name, p, link, zeros, weights, offset in [
        ("gamma", 2, "log", False, False, False), ("gamma", 2, "log", False, True, True),
        ("gamma", 2, "identity", False, False, False), ("inverse Gaussian", 3, "log", False, True, False),
        ("counts", 1, "log", True, True, True), ("counts", 1, "identity", False, False, False),
        ("tweedie", mpf(3) / 2, "log", True, False, False), ("tweedie", mpf(5) / 4, "log", True, True, False)]:
    data = [(x, y, w if weights else mpf(1), o if offset else mpf(0)) for x, y, w, o in rows(zeros)]
    b, errors, phi, dev, likelihood = fit(mpf(p), link, data)
    text = [mp.nstr(v, 17) for v in list(b) + errors + [phi, dev]]
    text.append("NAN" if likelihood is None else mp.nstr(likelihood, 17))
    print('{"%s", %s, "%s", %s, %s, %s,\n {%s}},' % (name, mp.nstr(mpf(p), 5), link, str(zeros).lower(),
                                                   str(weights).lower(), str(offset).lower(), ", ".join(text)))

try:
    import numpy as np
    import statsmodels.api as sm
except ImportError:
    pass
else:
    families = sm.families
    data = rows(False)
    x = np.array([[float(v) for v in r[0]] for r in data])
    y = np.array([float(r[1]) for r in data])
    print("#", sm.GLM(y, x, families.Gamma(families.links.log())).fit(tol=1e-14, maxiter=200).params)
    print("#", sm.GLM(y, x, families.InverseGaussian(families.links.log()),
                      var_weights=[float(r[2]) for r in data]).fit(tol=1e-14, maxiter=200).params)
    zero = np.array([float(r[1]) for r in rows(True)])
    print("#", sm.GLM(zero, x, families.Tweedie(families.links.log(), 1.5)).fit(tol=1e-14, maxiter=200).params)

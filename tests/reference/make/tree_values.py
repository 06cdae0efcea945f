# A regression tree of the diabetes rows by scikit-learn 1.2.1 (Debian 12: python3-sklearn), for tests/core/tree_test.cpp.
# Places depth first, left first; the weakest-link sequence of the same tree. Thresholds are of single precision there.
import csv, json, sys
import numpy as np
from sklearn.tree import DecisionTreeRegressor

rows = list(csv.DictReader(open(sys.argv[1])))
names = ["age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"]
x = np.array([[float(r[n]) for n in names] for r in rows])
y = np.array([float(r["y"]) for r in rows])
tree = DecisionTreeRegressor(min_samples_leaf=20, min_samples_split=40, max_depth=10, random_state=0).fit(x, y)
t = tree.tree_
nodes = []
def walk(i):
    leaf = t.children_left[i] < 0
    nodes.append({"column": None if leaf else names[t.feature[i]], "below": None if leaf else float(t.threshold[i]),
                  "rows": int(t.n_node_samples[i]), "mean": float(t.value[i][0][0]), "mse": float(t.impurity[i])})
    if not leaf:
        walk(t.children_left[i]); walk(t.children_right[i])
walk(0)
path = tree.cost_complexity_pruning_path(x, y)
json.dump({"nodes": nodes, "complexity": [float(a) for a in path.ccp_alphas], "mse": [float(a) for a in path.impurities]},
          open(sys.argv[2], "w"), indent=1)

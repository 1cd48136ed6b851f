"""Figures of Study, Scan, Sweep, Discover, walk-forward and the Shelf."""

from wolbrin.core.figures.figure import Figure, by_key

STUDIES = by_key((
    Figure("study.firings", "firings", "count", "bars at which the condition became true"),
    Figure("study.bar", "bar", "bars", "bars after the firing, at which the mean stands furthest beside that of all bars"),
    Figure("study.mean", "mean", "as chosen", "mean move from the open after the firing to so many bars later, long taken "
           "as up"),
    Figure("study.median", "median", "as chosen", "median of these moves"),
    Figure("study.band", "95% band", "as chosen", "2.5% and 97.5% of the mean under a stationary bootstrap",
           source="Politis & Romano 1994"),
    Figure("study.all", "all bars", "as chosen", "mean move over as many bars from every bar"),
    Figure("study.clock", "same times of day", "as chosen", "mean move from bars at the same times of day as the firings"),
    Figure("study.t", "t", "ratio", "mean move less that of all bars, over its standard error"),
    Figure("study.up", "up %", "percent", "share of moves above zero"),
    Figure("trial.figure", "result", "as chosen", "chosen measure of the row's rule on the column's market, costs included"),
))

SCANS = by_key((
    Figure("scan.t", "t", "ratio", "sum of the daily scores / their spread, days as clusters"),
    Figure("scan.p", "p", "chance", "chance that luck brings a row as strong, stepwise over all rows, horizons and pairs of "
           "its "
           "question", better=-1, source="Romano & Wolf 2005"),
    Figure("scan.luck", "luck", "percent", "share of luck among all rows as strong as this one", better=-1,
           source="Storey & Tibshirani 2003"),
    Figure("scan.times", "times", "count", "positions, each held once however often the row fires in it"),
    Figure("scan.money", "money", "money", "mean of a position of one contract, before costs", better=1),
    Figure("scan.net", "after costs", "money", "the same less spread, slippage and commission of a round turn", better=1),
))

SWEEPS = by_key((
    Figure("sweep.axis", "number", "as set", "value of the varied number in the set"),
    Figure("sweep.score", "score", "as chosen", "the objective: its measure, or a mean of ranks where several are blended",
           better=1),
    Figure("sweep.half", "plateau, half reach", "as chosen", "median of the objective over the sets within one step in each "
           "number: half of them reach it", better=1),
    Figure("sweep.worst", "plateau, worst", "as chosen", "worst of the objective over the sets within one step in each "
           "number",
           better=1),
    Figure("search.number", "number", "count", "of the search in this project"),
    Figure("search.sets", "sets", "count", "parameter sets that were run and kept"),
    Figure("search.tried", "tried", "count", "parameter sets, draws and trial cells looked at on the market in this project"),
))

FINDS = by_key((
    Figure("find.behind", "behind it", "count", "variants of the same idea that stand behind it: they earn and lose "
           "together"),
    Figure("find.by_luck", "by luck %", "percent", "of finds at least this strong, so many in 100 luck brings as well, by "
           "the "
           "controls", better=-1),
    Figure("find.cluster", "behaves as", "count", "group of candidates whose daily results move together"),
    Figure("find.alike", "stands for", "count", "itself, and finds that trade nearly alike"),
    Figure("beside.value", "value", "as the row", "the row's measure of the candidate that the column names"),
))

WALKS = by_key((
    Figure("walk.number", "number", "as set", "value that the fit on the training span chose"),
    Figure("walk.promised", "promised", "money", "what the test would have brought at the pace of training", better=1),
    Figure("walk.net", "test net", "money", "change of equity over the test span, positions carried across its borders",
           better=1),
    Figure("walk.efficiency", "efficiency", "ratio", "test profit a year / training profit a year; no value where training "
           "did "
           "not earn", better=1),
    Figure("walk.trades", "trades", "count", "entries in the test span"),
    Figure("walk.training", "training net", "money", "net profit of the chosen set on the training span", better=1),
))

# Of a walk beside the measures of its tests strung together.
WALKED = by_key((
    Figure("efficiency", "efficiency", "ratio", "test profit a year / training profit a year, summed over folds; no value "
           "where "
           "training did not earn", better=1, digits=2, source="Pardo 2008", also=("walk efficiency",)),
    Figure("profitable", "profitable folds", "percent", "share of the folds whose test span earned", better=1, digits=0),
    Figure("drift", "drift", "percent", "how far the number that moves most moves from one fit to the next on average, of "
           "its "
           "range; numbers drawn at random move by 33", better=-1, digits=0),
    Figure("folds", "folds", "count", "training and test spans that follow each other", digits=0),
))

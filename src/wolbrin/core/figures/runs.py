"""Figures of one run: its ledger, its breakdowns, what it counted, runs beside each other."""

from wolbrin.core.figures.figure import Figure, by_key

TRADES = by_key((
    Figure("trade.price", "price", "price", "at which the order was filled; spread, slippage and commission are charged "
           "beside it"),
    Figure("trade.gross", "gross", "money", "(exit - entry) x side x quantity x point value, before all costs, at the exit's "
           "conversion rate"),
    Figure("trade.costs", "costs", "money", "spread + slippage + commission - financing of the trade", better=-1),
    Figure("trade.net", "net", "money", "gross - spread - slippage - commission + financing", better=1),
    Figure("trade.held", "bars", "bars", "from the entry's bar to the exit's, both counted"),
    Figure("trade.r", "R", "R", "net / initial risk, where the risk is the money from the entry to the initial stop; no "
           "value "
           "without a stop", better=1),
    Figure("trade.worst", "worst", "money", "worst excursion while held: the furthest adverse price against the entry, "
           "whole bars "
           "seen", better=1, also=("MAE",)),
    Figure("trade.best", "best", "money", "best excursion while held: the furthest favorable price against the entry, whole "
           "bars "
           "seen", better=1, also=("MFE",)),
    Figure("trade.number", "number", "count", "place in the ledger, by exit"),
    Figure("trade.quantity", "quantity", "contracts", "contracts or lots, rounded down to the market's step"),
    Figure("order.number", "number", "count", "of the order, in the order in which they were placed"),
    Figure("order.trade", "trade", "count", "number of the trade that the order belongs to, none for one that was not "
           "filled"),
    Figure("row.left", "left", "value", "value of the row's left side at the decision bar's close"),
    Figure("row.right", "right", "value", "value of the row's right side at the decision bar's close"),
))

GROUPS = by_key((
    Figure("group.trades", "trades", "count", "trades that fall into the group"),
    Figure("group.net", "net", "money", "sum of net results of the group's trades", better=1),
    Figure("group.win_rate", "win %", "percent", "share of the group's trades with a net result above zero", better=1),
    Figure("group.average", "average", "money", "mean net result of the group's trades", better=1),
    Figure("group.profit_factor", "factor", "ratio", "profit factor of the group: gross profit / |gross loss|", better=1),
    Figure("group.share", "share %", "percent", "the group's net / net profit of the run, where that is positive"),
    Figure("fall.depth", "depth", "money", "largest fall of marked equity within the drawdown", better=-1),
    Figure("fall.percent", "% of peak", "percent", "depth / equity at the peak before it", better=-1),
    Figure("fall.days", "days under water", "days", "calendar days from the peak to its recovery, or to the end", better=-1),
    Figure("costs.level", "breaks even at", "ratio", "multiple of these costs at which nothing is left: gross / (spread + "
           "slippage "
           "+ commission)", better=1),
    Figure("costs.paid", "costs", "money", "spread + slippage + commission - financing of all trades", better=-1),
    Figure("costs.ticks", "average trade", "ticks", "mean net result of a trade on one contract / tick value", better=1),
    Figure("period.net", "net", "money", "change of equity over the period", better=1),
))

KEPT = by_key((
    Figure("run.net", "net", "money", "net profit of the kept run", better=1),
    Figure("run.trades", "trades", "count", "closed trades of the kept run"),
    Figure("run.measure", "value", "as the row", "the row's measure of the run that the column names, see `wolbrin figure`"),
    Figure("run.difference", "difference", "as the row", "the column before it less the first one, measure by measure"),
))

COUNTS = by_key((
    Figure("count.conflicts", "conflicts", "count", "bars on which both sides wanted in, so that neither was entered"),
    Figure("count.skipped", "skipped", "count", "entries that were not placed, with the reason in the order log"),
    Figure("count.rejected", "rejected", "count", "entries refused, such as margin above equity"),
    Figure("count.ambiguous", "ambiguous", "count", "trades whose stop and target lie in one bar without finer bars to "
           "tell; the "
           "worse is assumed", better=-1),
    Figure("count.late", "late", "count", "exits at a session's end whose last bar is missing, filled at the next open",
           better=-1),
    Figure("count.exposed", "exposed", "bars", "bars at which a position was held"),
    Figure("count.ruined", "ruined", "count", "1 where equity fell to zero and the run ended there", better=-1),
    Figure("count.expired", "expired", "count", "stop and limit entries whose bars have passed unfilled"),
    Figure("count.walked whole", "walked whole", "bars", "bars that fine fills walked as one, since the finer bars do not "
           "add up"),
    Figure("count.left out", "left out", "bars", "bars outside the sessions, which no run sees"),
))

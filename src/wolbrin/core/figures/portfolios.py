"""Figures of Overlap and Portfolio."""

from wolbrin.core.figures.figure import Figure, by_key

OVERLAPS = by_key((
    Figure("overlap.cluster", "cluster", "count", "group that moves together: average linkage, cut at the chosen "
           "correlation"),
    Figure("overlap.average", "mean corr.", "ratio", "mean correlation of its daily results with the others'", better=-1),
))

MEMBERS = by_key((
    Figure("member.number", "no.", "count", "place among the members that trade"),
    Figure("member.share", "share", "percent", "of the account that the member is given"),
    Figure("member.contracts", "contracts", "contracts", "whole contracts of a trade at the starting capital; the mean "
           "where the "
           "size follows equity"),
    Figure("member.net", "net", "money", "net profit of the member within the portfolio", better=1),
    Figure("member.profit", "profit", "percent", "the member's net / net profit of the portfolio"),
    Figure("member.risk", "risk", "percent", "covariance of its daily results with the portfolio's / the portfolio's "
           "variance"),
    Figure("member.average", "corr.", "ratio", "mean correlation with the other members", better=-1),
    Figure("member.priority", "first", "count", "priority: 1 takes capital and margin first"),
))

PORTFOLIOS = by_key((
    Figure("desk.best", "best by", "as chosen", "the aim, added up from stored daily results", better=1),
    Figure("desk.traded", "traded", "as chosen", "the same, really traded on the account", better=1),
    Figure("desk.bets", "bets", "count", "effective number of bets: (sum of eigenvalues)^2 / sum of squared eigenvalues of "
           "the "
           "correlation matrix of the members' daily results", better=1, also=("effective number of bets",)),
    Figure("desk.members", "members", "count", "members that trade"),
    Figure("desk.depth", "depth", "money", "fall of the account from its peak", better=-1),
    Figure("desk.each", "member's part", "money", "what the member earned or lost over that fall"),
    Figure("desk.number", "no.", "count", "place in the account's ledger, by the instant at which trades became known"),
    Figure("desk.quantity", "quantity", "contracts", "of the trade, as the account gave it"),
    Figure("desk.net", "net", "money", "net result of the trade", better=1),
    Figure("desk.account", "account", "money", "cash of the account after the trade"),
    Figure("desk.measure", "value", "as the row", "the row's measure of the portfolio, or of the member the column names"),
    Figure("desk.without", "change", "as the heading", "measure of the portfolio without the member, or with one more"),
))

SCHEMES = by_key((
    Figure("scheme.sharpe", "Sharpe", "ratio", "Sharpe ratio of the scheme's days outside its fits, x sqrt 252", better=1),
    Figure("scheme.return_drawdown", "ret/dd", "ratio", "return over drawdown of these days", better=1),
    Figure("scheme.p", "p", "chance", "of the Sharpe ratio against that of equal weights", better=-1, source="Ledoit & Wolf "
           "2008"),
    Figure("scheme.turnover", "change", "percent", "mean share that changes from one fit to the next", better=-1),
    Figure("scheme.weight", "share", "percent", "mean share of the member that the heading numbers"),
))

"""Figures of histories: quality, sources beside each other, contract months."""

from wolbrin.core.figures.figure import Figure, by_key

MARKETS = by_key((
    Figure("market.interval", "interval", "minutes", "of the rows as they were taken in"),
    Figure("market.score", "score", "of 100", "quality of the rows as they came: 100 less the points of each fault",
           better=1),
    Figure("market.bars", "bars", "bars", "bars of the history, of those before the border where it is sealed"),
    Figure("market.row", "row", "count", "line of the file, the first one being 1"),
    Figure("quality.bars", "bars", "bars", "bars with the fault", better=-1),
    Figure("quality.share", "share", "percent", "bars with the fault / bars that could have it", better=-1),
    Figure("quality.points", "points", "of 100", "points that the fault takes from the score, by its share and weight",
           better=1),
    Figure("compare.first", "first", "as the row", "value of the first source"),
    Figure("compare.second", "second", "as the row", "value of the second source"),
    Figure("compare.difference", "difference", "as the row", "second less first; of trades in money, of prices in ticks"),
    Figure("month.difference", "difference", "price", "close of the month that follows less that of the one before it, at "
           "the "
           "roll"),
))

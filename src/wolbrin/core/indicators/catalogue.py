"""The catalogue of indicators. To add one: write its function, describe it in `CATALOGUE`; the contract tests and
every list in the program pick it up from there."""

from __future__ import annotations

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.indicators import fused, kernels, structure
from wolbrin.core.indicators.library import library
from wolbrin.core.indicators.model import Floats, Indicator, Output, Param, Values
from wolbrin.core.indicators.ta import talib
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.zones import to_local

PRICE_FIELDS = ("open", "high", "low", "close", "typical", "median")
FIELD_MIRROR = {"high": "low", "low": "high"}
# Sums over all bars so far: where they stand says where the history began, how they move does not.
CUMULATIVE = frozenset({"running_sum", "williams_ad", "ad_line", "nvi", "pvi", "obv", "pvt"})


def price_field(bars: Bars, name: str) -> Floats:
    """A price field as float64[n]; typical = (high + low + close) / 3, median = (high + low) / 2."""
    if name == "typical":
        return (bars.high + bars.low + bars.close) / 3.0
    if name == "median":
        return (bars.high + bars.low) / 2.0
    return np.asarray(getattr(bars, name))


def _length(default: int, low: int = 2, high: int = 200, step: int = 1) -> Param:
    return Param("length", "length", default, low, high, step)


def _n(values: Values, key: str = "length") -> int:
    return int(values[key])


def _blank(n: int) -> Floats:
    return np.full(n, np.nan)


def _lag(x: Floats, n: int) -> Floats:
    out = _blank(len(x))
    if n < len(x):
        out[n:] = x[: len(x) - n]
    return out


def _atr(bars: Bars, length: int) -> Floats:
    tick = bars.terms.tick_size
    return kernels.wilder_atr(bars.h, bars.l, bars.c, length) * tick


def _bands(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    upper, middle, lower = talib.BBANDS(x, _n(v), v["width"], v["width"])
    return upper, middle, lower


def _macd(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    line, signal, histogram = talib.MACD(x, _n(v, "fast"), _n(v, "slow"), _n(v, "signal"))
    return line, signal, histogram


def _stochastic(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    k, d = talib.STOCH(bars.high, bars.low, bars.close, _n(v), _n(v, "smooth"), 0, _n(v, "signal"), 0)
    return k, d


def _directional(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    n = _n(v)
    return (talib.PLUS_DI(bars.high, bars.low, bars.close, n), talib.MINUS_DI(bars.high, bars.low, bars.close, n),
            talib.ADX(bars.high, bars.low, bars.close, n))


def _keltner(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    middle = talib.EMA(x, _n(v))
    width = v["width"] * _atr(bars, _n(v))
    return middle + width, middle, middle - width


def _opening_range(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    opened = bars.sessions.open[bars.session]
    return kernels.opening_range(bars.high, bars.low, bars.end, bars.session, opened, _n(v, "minutes") * NS_A_MINUTE)


def _gap(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    prior = kernels.prior_session(bars.high, bars.low, bars.close, bars.session)[2]
    return (kernels.session_open(bars.open, bars.session) - prior,)


def _vwap(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    return (kernels.session_vwap(price_field(bars, "typical"), bars.volume, bars.session),)


def _time_of_day(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    minute = to_local(bars.end, bars.terms.time_zone) % NS_A_DAY // NS_A_MINUTE
    return ((minute // 60 * 100 + minute % 60).astype(np.float64),)


def _weekday(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    return (((bars.trading_date.astype(np.int64) + 3) % 7 + 1).astype(np.float64),)


def _month(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    dates = bars.trading_date.astype("datetime64[D]")
    return ((dates.astype("datetime64[M]").astype(np.int64) % 12 + 1).astype(np.float64),)


def _position_in_range(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    span = bars.high - bars.low
    with np.errstate(invalid="ignore", divide="ignore"):
        return (np.where(span > 0, (bars.close - bars.low) / span, 0.5),)


def _momentum(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    return (x - _lag(x, _n(v)),)


def _pivots(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    high, low, close = kernels.prior_session(bars.high, bars.low, bars.close, bars.session)
    pivot = (high + low + close) / 3.0
    span = high - low
    return (pivot, 2 * pivot - low, pivot + span, high + 2 * (pivot - low), 2 * pivot - high, pivot - span,
            low - 2 * (high - pivot))


def _atr_percent(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    with np.errstate(divide="ignore", invalid="ignore"):
        share = 100.0 * _atr(bars, _n(v)) / np.abs(bars.close)
    share = np.where(np.isfinite(share), share, np.nan)
    return share, structure.rank_of(share, _n(v, "rank"))


def _outside(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    before_high, before_low = _lag(bars.high, 1), _lag(bars.low, 1)
    beyond = (bars.high > before_high) & (bars.low < before_low)
    return (np.where(np.isnan(before_high), np.nan, np.where(beyond, np.sign(bars.close - bars.open), 0.0)),)


def _round_number(bars: Bars, x: Floats, v: Values) -> tuple[Floats, ...]:
    step = v["step"]
    return (x - np.floor(x / step + 0.5) * step,)


def _value(nature: str, **more: object) -> tuple[Output, ...]:
    return (Output("value", "value", nature, **more),)  # type: ignore[arg-type]


def _band_outputs(key: str, title: str) -> tuple[Output, ...]:
    return (Output("upper", f"{title} upper", "price", mirror=(key, "lower")),
            Output("middle", f"{title} middle", "price"),
            Output("lower", f"{title} lower", "price", mirror=(key, "upper")))


WILDER = "Wilder 1978, New Concepts in Technical Trading Systems"
COMMON = "common practice, no source"

CATALOGUE: tuple[Indicator, ...] = (
    Indicator("sma", "SMA", "average", _value("price"), (_length(20),), lambda b, x, v: (fused.alone(x, "sma", _n(v)),),
              "mean of the last n values", COMMON, True, warm_up=lambda v: _n(v) - 1, on_price=True),
    Indicator("ema", "EMA", "average", _value("price"), (_length(20),), lambda b, x, v: (fused.alone(x, "ema", _n(v)),),
              "e = e + 2/(n+1) (x - e), first value the mean of the first n", COMMON, True,
              warm_up=lambda v: _n(v) - 1, on_price=True),
    Indicator("wma", "WMA", "average", _value("price"), (_length(20),), lambda b, x, v: (talib.WMA(x, _n(v)),),
              "linearly weighted mean of the last n values", COMMON, True, warm_up=lambda v: _n(v) - 1, on_price=True),
    Indicator("bands", "Bands", "channel", _band_outputs("bands", "Band"),
              (_length(20), Param("width", "width", 2.0, 0.5, 4.0, 0.1)), _bands,
              "mean of n values and that mean plus and minus width standard deviations", COMMON, True,
              warm_up=lambda v: _n(v) - 1, on_price=True),
    Indicator("keltner", "Keltner", "channel", _band_outputs("keltner", "Keltner"),
              (_length(20), Param("width", "width", 2.0, 0.5, 4.0, 0.1)), _keltner,
              "EMA(n) plus and minus width x ATR(n)", COMMON, True, warm_up=lambda v: _n(v) - 1, on_price=True),
    Indicator("highest", "Highest", "extreme", _value("price", mirror=("lowest", "value")), (_length(20, 1),),
              lambda b, x, v: (_lag(talib.MAX(x, _n(v)) if _n(v) > 1 else x, 1),),
              "largest of the n values before this bar", COMMON, True, "high", lambda v: _n(v), True),
    Indicator("lowest", "Lowest", "extreme", _value("price", mirror=("highest", "value")), (_length(20, 1),),
              lambda b, x, v: (_lag(talib.MIN(x, _n(v)) if _n(v) > 1 else x, 1),),
              "smallest of the n values before this bar", COMMON, True, "low", lambda v: _n(v), True),
    Indicator("rsi", "RSI", "oscillator", _value("bounded"), (_length(14, 2, 100),),
              lambda b, x, v: (fused.alone(x, "rsi", _n(v)),), "100 up / (up + down), both Wilder averages of n changes",
              WILDER, True, warm_up=lambda v: _n(v)),
    Indicator("stochastic", "Stochastic", "oscillator",
              (Output("k", "Stochastic %K", "bounded"), Output("d", "Stochastic %D", "bounded")),
              (_length(14, 2, 100), Param("smooth", "smooth", 3, 1, 20), Param("signal", "signal", 3, 1, 20)),
              _stochastic, "place of the close in the n-bar range in percent, averaged; D averages K", COMMON,
              warm_up=lambda v: _n(v) + _n(v, "smooth") + _n(v, "signal") - 3),
    Indicator("cci", "CCI", "oscillator", _value("centered"), (_length(20, 2, 200),),
              lambda b, x, v: (talib.CCI(b.high, b.low, b.close, _n(v)),),
              "(typical - mean of n) / (0.015 mean deviation)", "Lambert 1980, Commodity Channel Index",
              warm_up=lambda v: _n(v) - 1),
    Indicator("macd", "MACD", "oscillator",
              (Output("line", "MACD line", "centered"), Output("signal", "MACD signal", "centered"),
               Output("histogram", "MACD histogram", "centered")),
              (Param("fast", "fast", 12, 2, 100), Param("slow", "slow", 26, 3, 200),
               Param("signal", "signal", 9, 2, 50)),
              _macd, "EMA(fast) - EMA(slow); its EMA(signal); their difference", COMMON, True,
              warm_up=lambda v: max(_n(v, "fast"), _n(v, "slow")) + _n(v, "signal") - 2),
    Indicator("momentum", "Momentum", "oscillator", _value("centered"), (_length(10, 1),), _momentum,
              "value less the value n bars ago", COMMON, True, warm_up=lambda v: _n(v)),
    Indicator("directional", "Directional", "trend",
              (Output("plus", "+DI", "unsigned", mirror=("directional", "minus")),
               Output("minus", "\u2212DI", "unsigned", mirror=("directional", "plus")),
               Output("adx", "ADX", "unsigned")),
              (_length(14, 2, 100),), _directional, "Wilder's directional movement system", WILDER,
              warm_up=lambda v: 2 * _n(v) - 1),
    Indicator("atr", "ATR", "volatility", _value("unsigned"), (_length(14, 1, 200),),
              lambda b, x, v: (_atr(b, _n(v)),), "Wilder average of the true range, first value the mean of n", WILDER,
              warm_up=lambda v: _n(v) - 1),
    Indicator("deviation", "Deviation", "volatility", _value("unsigned"), (_length(20),),
              lambda b, x, v: (talib.STDDEV(x, _n(v), 1.0),), "standard deviation of the last n values", COMMON, True,
              warm_up=lambda v: _n(v) - 1),
    Indicator("range", "Bar range", "bar", _value("unsigned"), (), lambda b, x, v: (b.to_price(b.h - b.l),),
              "high - low", COMMON, warm_up=lambda v: 0),
    Indicator("body", "Bar body", "bar", _value("centered"), (), lambda b, x, v: (b.to_price(b.c - b.o),),
              "close - open", COMMON, warm_up=lambda v: 0),
    Indicator("place", "Close in range", "bar",
              (Output("value", "value", "bounded", (0.0, 1.0)),), (), _position_in_range,
              "(close - low) / (high - low); 0.5 without a range", COMMON, warm_up=lambda v: 0),
    Indicator("volume", "Volume", "bar", _value("unsigned"), (), lambda b, x, v: (b.volume,), "volume of the bar",
              COMMON, warm_up=lambda v: 0),
    Indicator("opening_range", "Opening range", "session",
              (Output("high", "Opening range high", "price", mirror=("opening_range", "low")),
               Output("low", "Opening range low", "price", mirror=("opening_range", "high"))),
              (Param("minutes", "minutes", 30, 5, 240, 5),), _opening_range,
              "extremes of the session's first n minutes, known once they have passed", COMMON, on_price=True),
    Indicator("prior_session", "Prior session", "session",
              (Output("high", "Prior session high", "price", mirror=("prior_session", "low")),
               Output("low", "Prior session low", "price", mirror=("prior_session", "high")),
               Output("close", "Prior session close", "price")), (),
              lambda b, x, v: kernels.prior_session(b.high, b.low, b.close, b.session),
              "extremes and close of the last session", COMMON, on_price=True),
    Indicator("session_open", "Session open", "session", _value("price"), (),
              lambda b, x, v: (kernels.session_open(b.open, b.session),), "open of the session's first bar", COMMON,
              warm_up=lambda v: 0, on_price=True),
    Indicator("gap", "Gap", "session", _value("centered"), (), _gap, "session's open - prior session's close", COMMON),
    Indicator("vwap", "Session VWAP", "session", _value("price"), (), _vwap,
              "sum of typical price x volume / sum of volume since the session's open", COMMON, on_price=True),
    Indicator("time_of_day", "Time of day", "time", _value("unsigned"), (), _time_of_day,
              "exchange-local clock at the bar's close, written 09:30; a number 930 in arithmetic", COMMON,
              warm_up=lambda v: 0),
    Indicator("weekday", "Weekday", "time", _value("unsigned"), (), _weekday,
              "weekday of the trading date, Monday 1 to Sunday 7", COMMON, warm_up=lambda v: 0),
    Indicator("month", "Month", "time", _value("unsigned"), (), _month,
              "month of the trading date, January 1 to December 12", COMMON, warm_up=lambda v: 0),
    Indicator("bars_in_session", "Bars in session", "time", _value("unsigned"), (),
              lambda b, x, v: (kernels.session_count(b.session),), "bars since the session's open, this one counted",
              COMMON, warm_up=lambda v: 0),
    Indicator("pivots", "Pivots", "session",
              (Output("pivot", "Pivot", "price"),
               *(Output(f"r{i}", f"Pivot R{i}", "price", mirror=("pivots", f"s{i}")) for i in (1, 2, 3)),
               *(Output(f"s{i}", f"Pivot S{i}", "price", mirror=("pivots", f"r{i}")) for i in (1, 2, 3))), (), _pivots,
              "P = (high + low + close) / 3 of the prior session; R1 = 2P - low, R2 = P + range, R3 = high + 2 (P - low); "
              "S mirrored", COMMON, on_price=True),
    Indicator("atr_percent", "ATR percent", "volatility",
              (Output("value", "ATR percent", "unsigned"), Output("rank", "ATR percent rank", "unsigned")),
              (_length(14, 1), Param("rank", "rank over", 100, 10, 1000, 10)), _atr_percent,
              "100 ATR / close, and the share of the values before it that lie below", WILDER),
    Indicator("imbalance", "Fair value gap", "structure",
              (Output("up", "Fair value gap up", "unsigned", mirror=("imbalance", "down")),
               Output("down", "Fair value gap down", "unsigned", mirror=("imbalance", "up"))), (),
              lambda b, x, v: structure.imbalance(b.high, b.low),
              "three-bar imbalance: low - high two bars ago where positive; for down, low two bars ago - high", COMMON,
              warm_up=lambda v: 2),
    Indicator("swings", "Swings", "structure",
              (Output("high", "Swing high", "price", mirror=("swings", "low")),
               Output("low", "Swing low", "price", mirror=("swings", "high")),
               Output("break", "Break of structure", "centered")), (Param("side", "bars each side", 3, 1, 20),),
              lambda b, x, v: structure.swings(b.high, b.low, b.close, _n(v, "side")),
              "last high above its k neighbors on both sides, known k bars later; break: +1 on the first close above it, "
              "-1 below the swing low", COMMON, on_price=True),
    Indicator("sweep", "Sweep of an extreme", "structure", _value("centered"), (_length(20, 1),),
              lambda b, x, v: (structure.sweep(b.high, b.low, b.close, _n(v)),),
              "+1 where the low goes below the n bars before and the close comes back above, -1 for the high", COMMON,
              warm_up=lambda v: _n(v)),
    Indicator("origin", "Origin zone", "structure",
              (Output("upper", "Origin zone upper", "price", mirror=("origin", "lower")),
               Output("lower", "Origin zone lower", "price", mirror=("origin", "upper")),
               Output("return", "Return to the origin zone", "centered")),
              (_length(14, 1), Param("multiple", "ATR multiple", 1.5, 0.2, 10, 0.1)),
              lambda b, x, v: structure.origin(b.open, b.high, b.low, b.close, _atr(b, _n(v)), v["multiple"]),
              "range of the bar before a body of at least so many ATR; return: +1 or -1 on the first bar that comes back",
              COMMON, on_price=True),
    Indicator("inside", "Inside bars", "bar", _value("unsigned"), (),
              lambda b, x, v: (structure.inside_run(b.high, b.low),),
              "bars in a row that lie inside the bar before them", COMMON, warm_up=lambda v: 1),
    Indicator("outside", "Outside bar", "bar", _value("centered"), (), _outside,
              "+1 or -1 by its body where high and low both lie beyond the bar before, else 0", COMMON,
              warm_up=lambda v: 1),
    Indicator("close_run", "Consecutive closes", "bar", _value("centered"), (),
              lambda b, x, v: (structure.close_run(b.close),), "higher closes in a row, negative for lower ones", COMMON,
              warm_up=lambda v: 1),
    Indicator("round_number", "Round-number distance", "price", _value("centered"),
              (Param("step", "step", 1.0, 0.01, 1000.0, 0.01),), _round_number,
              "value less the nearest multiple of the step, in price", COMMON, True, warm_up=lambda v: 0),
    *library(),
)

BY_KEY = {i.key: i for i in CATALOGUE}


def find(key: str) -> Indicator:
    """The catalogue entry of that key, or a sentence that says it is unknown."""
    if key not in BY_KEY:
        raise UserError(f'there is no indicator "{key}"', "", f"Known are {', '.join(BY_KEY)}.")
    return BY_KEY[key]

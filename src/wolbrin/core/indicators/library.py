"""The functions of TA-Lib that the catalogue does not describe itself, under plain names and one description.

One line of `TABLE` is one function: its name, key, title, group, outputs, formula. An output is `key:nature` or
`key:nature:mirror`, the mirror being the output it becomes on the other side. Settings, their defaults and the warm-up
are TA-Lib's own; kinds of averages that it lets one choose stay at its defaults.

Left out: functions without meaning on prices (ACOS, ASIN, COSH, SINH, EXP), positions counted from the first bar of the
history (MAXINDEX, MININDEX, MINMAXINDEX), those that need a column of periods (MAVP), sums over the whole history where the
session's is meant (VWAP), and what the catalogue has already or another line says with a setting (ATR, MA, MACDEXT, SAREXT).
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache, partial
from types import MappingProxyType
from typing import Any

import numpy as np

from wolbrin.core.indicators.model import Floats, Indicator, Output, Param, Values
from wolbrin.core.indicators.ta import Function, talib
from wolbrin.core.market.bars import Bars

TABLE = """
DEMA | dema | DEMA | average | value:price | 2 EMA - EMA of EMA
TEMA | tema | TEMA | average | value:price | 3 EMA - 3 EMA of EMA + EMA of EMA of EMA
TRIMA | trima | Triangular average | average | value:price | average of an average, weights rising to the middle
KAMA | kama | Kaufman average | average | value:price | EMA whose speed follows net move / sum of moves
T3 | t3 | T3 average | average | value:price | EMA passed six times, with a volume factor
HMA | hma | Hull average | average | value:price | WMA(root n) of 2 WMA(n/2) - WMA(n)
RMA | rma | Wilder average | average | value:price | a = a + (x - a) / n
ZLEMA | zlema | Zero-lag EMA | average | value:price | EMA of the value plus its change over half the length
VWMA | vwma | Volume-weighted average | average | value:price | sum of price x volume / sum of volume over n bars
MAMA | mama | MESA average | average | mama:price,fama:price | EMA whose speed follows the phase of the Hilbert transform
HT_TRENDLINE | trendline | Hilbert trendline | average | value:price | average over the dominant cycle
MIDPOINT | midpoint | Midpoint | average | value:price | (highest + lowest) / 2 of n values
MIDPRICE | midprice | Midprice | average | value:price | (highest high + lowest low) / 2 of n bars
LINEARREG | regression | Regression | average | value:price | end of the least-squares line through n values
LINEARREG_INTERCEPT | regression_start | Regression start | average | value:price | begin of that line
TSF | forecast | Forecast | average | value:price | that line one bar further
AVGPRICE | average_price | Average price | price | value:price | (open + high + low + close) / 4
MEDPRICE | median_price | Median price | price | value:price | (high + low) / 2
TYPPRICE | typical_price | Typical price | price | value:price | (high + low + close) / 3
WCLPRICE | weighted_close | Weighted close | price | value:price | (high + low + 2 close) / 4
HA | smoothed_bars | Averaged bars | price | open:price,high:price:low,low:price:high,close:price | close = mean of the four prices, open = middle of the averaged body before
ACCBANDS | acceleration_bands | Acceleration bands | channel | upper:price:lower,middle:price,lower:price:upper | means of high (1 + 4 range / (high + low)), close, low
DONCHIAN | donchian | Donchian | channel | upper:price:lower,middle:price,lower:price:upper | highest high, middle and lowest low of n bars, this one included
SUPERTREND | supertrend | Supertrend | trend | line:price,trend:centered | median price -/+ multiple x ATR, never back; trend +1 or -1
SAR | sar | Parabolic SAR | trend | value:price | stop that accelerates towards the extreme of the move
AROON | aroon | Aroon | trend | down:bounded:up,up:bounded:down | 100 (n - bars since the extreme) / n
AROONOSC | aroon_oscillator | Aroon oscillator | trend | value:centered | Aroon up - Aroon down
ADXR | adxr | ADXR | trend | value:unsigned | mean of ADX and ADX n bars ago
DX | dx | DX | trend | value:unsigned | 100 |+DI - -DI| / (+DI + -DI)
PLUS_DM | plus_dm | +DM | trend | value:unsigned | Wilder sum of upward directional movement
MINUS_DM | minus_dm | -DM | trend | value:unsigned | Wilder sum of downward directional movement
VORTEX | vortex | Vortex | trend | plus:unsigned:minus,minus:unsigned:plus | sums of |high - low before|, |low - high before| / true ranges
VHF | vhf | Vertical horizontal filter | trend | value:unsigned | (highest - lowest) / sum of moves of n values
ER | efficiency | Efficiency ratio | trend | value:unsigned | |net move| / sum of moves of n values
HT_TRENDMODE | trend_mode | Trend mode | trend | value:unsigned | 1 in a trend, 0 in a cycle, by the Hilbert transform
HT_DCPERIOD | cycle_period | Cycle period | cycle | value:unsigned | dominant cycle in bars, by the Hilbert transform
HT_DCPHASE | cycle_phase | Cycle phase | cycle | value:unsigned | phase of the dominant cycle in degrees
HT_PHASOR | phasor | Phasor | cycle | in_phase:centered,quadrature:centered | components of the Hilbert transform
HT_SINE | sine | Cycle sine | cycle | sine:centered,lead:centered | sine of the phase, and 45 degrees ahead
AC | accelerator | Acceleration oscillator | oscillator | value:centered | difference of median averages less its average
AO | median_oscillator | Median oscillator | oscillator | value:centered | SMA(fast) - SMA(slow) of the median price
APO | apo | Absolute price oscillator | oscillator | value:centered | EMA(fast) - EMA(slow)
PPO | ppo | Percentage price oscillator | oscillator | value:centered | that difference in percent of EMA(slow)
BOP | balance | Balance of power | oscillator | value:centered | (close - open) / (high - low)
CMO | cmo | Chande momentum | oscillator | value:centered | 100 (up - down) / (up + down), Wilder sums
CMOU | cmo_raw | Plain Chande momentum | oscillator | value:centered | 100 (up - down) / (up + down) of n changes
COPPOCK | coppock | Coppock curve | oscillator | value:centered | WMA of two rates of change
DPO | detrended | Detrended price | oscillator | value:centered | price less its average, shifted back half the length
ERI | elder_ray | Elder ray | oscillator | bull:centered:bear,bear:centered:bull | high - EMA, low - EMA
FOSC | forecast_oscillator | Forecast oscillator | oscillator | value:centered | 100 (close - forecast) / close
IMI | intraday_momentum | Intraday momentum | oscillator | value:bounded | 100 sum of up bodies / sum of bodies
KDJ | kdj | KDJ | oscillator | k:bounded,d:bounded,j:bounded | stochastic, its smoothed line, and 3 K - 2 D
MACDFIX | macd_fixed | Fixed MACD | oscillator | line:centered,signal:centered,histogram:centered | MACD with lengths 12 and 26
MFI | money_flow | Money flow index | oscillator | value:bounded | RSI of typical price x volume
QSTICK | qstick | Mean body | oscillator | value:centered | SMA of close - open
ROC | roc | Rate of change | oscillator | value:centered | 100 (value / value n bars ago - 1)
ROCP | rocp | Rate of change as share | oscillator | value:centered | value / value n bars ago - 1
ROCR | rocr | Rate of change as ratio | oscillator | value:unsigned | value / value n bars ago
ROCR100 | rocr100 | Rate of change as ratio of 100 | oscillator | value:unsigned | 100 value / value n bars ago
SMI | smi | Stochastic momentum | oscillator | value:centered,signal:centered | distance from the middle of the range, smoothed twice
STOCHF | stochastic_fast | Fast stochastic | oscillator | k:bounded,d:bounded | 100 (close - lowest) / (highest - lowest); its average
STOCHRSI | stochastic_rsi | Stochastic RSI | oscillator | k:bounded,d:bounded | stochastic of the RSI
TRIX | trix | Triple EMA change | oscillator | value:centered | rate of change of an EMA of an EMA of an EMA
TSI | tsi | True strength | oscillator | value:centered | change smoothed twice over |change| smoothed twice
ULTOSC | ultimate | Ultimate oscillator | oscillator | value:bounded | buying pressure over true range, three lengths
WILLR | williams_r | Williams %R | oscillator | value:percent_r | -100 (highest - close) / (highest - lowest)
RVI | volatility_index | Relative volatility | oscillator | value:bounded | RSI of standard deviations
AVGDEV | mean_deviation | Mean deviation | volatility | value:unsigned | mean |value - mean| of n values
VAR | variance | Variance | volatility | value:unsigned | squared standard deviation of n values
NATR | natr | Normalized ATR | volatility | value:unsigned | 100 ATR / close, first true range left out
TRANGE | true_range | True range | volatility | value:unsigned | largest of high - low and the distances to the last close
ADR | day_range | Mean range | volatility | value:unsigned | SMA of high - low
CVI | range_change | Range change | volatility | value:centered | rate of change of the EMA of high - low
MASSI | mass | Mass index | volatility | value:unsigned | sum of EMA of range / EMA of that EMA
BETA | beta | Beta of high to low | statistics | value:unsigned | slope of changes of the high on changes of the low
CORREL | correlation | Correlation of high and low | statistics | value:unsigned | Pearson's r of n highs and lows
LINEARREG_ANGLE | regression_angle | Regression angle | statistics | value:centered | slope of the least-squares line in degrees
LINEARREG_SLOPE | regression_slope | Regression slope | statistics | value:centered | slope of the least-squares line
PERCENTILE | percentile | Percentile | statistics | value:price | nearest-rank percentile of n values
PERCENTRANK | percent_rank | Percent rank | statistics | value:bounded | share of the last n values below this one, in percent
SUM | sum | Sum | statistics | value:unsigned | sum of n values
CUMSUM | running_sum | Running sum | statistics | value:unsigned | sum from the first bar on
MAX | max | Inclusive highest | extreme | value:price:min | largest of n values
MIN | min | Inclusive lowest | extreme | value:price:max | smallest of n values
MINMAX | extremes | Extremes | extreme | low:price:high,high:price:low | smallest and largest of n values
WAD | williams_ad | Williams accumulation | volume | value:centered | running sum of moves beyond the last close
AD | ad_line | Accumulation line | volume | value:centered | running sum of place in range x volume
ADOSC | ad_oscillator | Accumulation oscillator | volume | value:centered | EMA(fast) - EMA(slow) of the accumulation line
CMF | chaikin_flow | Chaikin money flow | volume | value:centered | sum of place in range x volume / sum of volume
EFI | force | Force index | volume | value:centered | EMA of change x volume
MARKETFI | facilitation | Market facilitation | volume | value:unsigned | (high - low) / volume
NVI | nvi | Negative volume index | volume | value:unsigned | compounded changes of bars with falling volume
PVI | pvi | Positive volume index | volume | value:unsigned | compounded changes of bars with rising volume
OBV | obv | On-balance volume | volume | value:centered | running sum of volume signed by the change
PVO | pvo | Percentage volume oscillator | volume | value:unsigned | EMA(fast) - EMA(slow) of volume in percent
PVT | pvt | Price volume trend | volume | value:centered | running sum of rate of change x volume
RVOL | relative_volume | Relative volume | volume | value:unsigned | volume over its mean of n bars
ADD | high_plus_low | High + low | arithmetic | value:unsigned | high + low
SUB | high_minus_low | High - low | arithmetic | value:unsigned | high - low
MULT | high_times_low | High x low | arithmetic | value:unsigned | high x low
DIV | high_over_low | High over low | arithmetic | value:unsigned | high / low
ATAN | arctangent | Arctangent | arithmetic | value:unsigned | arctangent of the value
CEIL | ceiling | Ceiling | arithmetic | value:price | next whole number above
FLOOR | floor | Floor | arithmetic | value:price | next whole number below
COS | cosine | Cosine | arithmetic | value:unsigned | cosine of the value
SIN | sine_of | Sine | arithmetic | value:unsigned | sine of the value
TAN | tangent | Tangent | arithmetic | value:unsigned | tangent of the value
TANH | hyperbolic_tangent | Hyperbolic tangent | arithmetic | value:unsigned | hyperbolic tangent of the value
LN | logarithm | Natural logarithm | arithmetic | value:unsigned | natural logarithm; none at or below zero
LOG10 | logarithm10 | Logarithm to 10 | arithmetic | value:unsigned | logarithm to base 10; none at or below zero
SQRT | root | Square root | arithmetic | value:unsigned | square root; none below zero
"""

PATTERNS = """
2CROWS two crows|3BLACKCROWS three black crows|3INSIDE three inside up or down|3LINESTRIKE three-line strike
3OUTSIDE three outside up or down|3STARSINSOUTH three stars in the south|3WHITESOLDIERS three advancing white soldiers
ABANDONEDBABY abandoned baby|ADVANCEBLOCK advance block|BELTHOLD belt hold|BREAKAWAY breakaway
CLOSINGMARUBOZU closing marubozu|CONCEALBABYSWALL concealing baby swallow|COUNTERATTACK counterattack
DARKCLOUDCOVER dark cloud cover|DOJI doji|DOJISTAR doji star|DRAGONFLYDOJI dragonfly doji|ENGULFING engulfing
EVENINGDOJISTAR evening doji star|EVENINGSTAR evening star|GAPSIDESIDEWHITE side-by-side white lines with a gap
GRAVESTONEDOJI gravestone doji|HAMMER hammer|HANGINGMAN hanging man|HARAMI harami|HARAMICROSS harami cross
HIGHWAVE high-wave candle|HIKKAKE hikkake|HIKKAKEMOD modified hikkake|HOMINGPIGEON homing pigeon
IDENTICAL3CROWS identical three crows|INNECK in-neck|INVERTEDHAMMER inverted hammer|KICKING kicking
KICKINGBYLENGTH kicking by the longer marubozu|LADDERBOTTOM ladder bottom|LONGLEGGEDDOJI long-legged doji
LONGLINE long line|MARUBOZU marubozu|MATCHINGLOW matching low|MATHOLD mat hold|MORNINGDOJISTAR morning doji star
MORNINGSTAR morning star|ONNECK on-neck|PIERCING piercing|RICKSHAWMAN rickshaw man
RISEFALL3METHODS rising or falling three methods|SEPARATINGLINES separating lines|SHOOTINGSTAR shooting star
SHORTLINE short line|SPINNINGTOP spinning top|STALLEDPATTERN stalled pattern|STICKSANDWICH stick sandwich
TAKURI long-shadow dragonfly doji|TASUKIGAP gap with an opposite bar|THRUSTING thrusting|TRISTAR tristar
UNIQUE3RIVER unique three river|UPSIDEGAP2CROWS upside gap two crows|XSIDEGAP3METHODS gap three methods
"""

REFERENCE = "TA-Lib, open-source C library (functions of that name)"
CANDLES = "TA-Lib, open-source C library; names as in Nison 1991, Japanese Candlestick Charting Techniques"
# TA-Lib's settings under plain names: key, title, lowest, highest, step.
SETTINGS: dict[str, tuple[str, str, float, float, float]] = {
    "timeperiod": ("length", "length", 2, 200, 1), "fastperiod": ("fast", "fast", 2, 100, 1),
    "slowperiod": ("slow", "slow", 3, 200, 1), "signalperiod": ("signal", "signal", 2, 50, 1),
    "fastk_period": ("lookback", "lookback", 2, 100, 1), "slowk_period": ("smooth", "smooth", 1, 20, 1),
    "slowd_period": ("signal", "signal", 1, 20, 1), "fastd_period": ("signal", "signal", 1, 20, 1),
    "multiplier": ("multiple", "multiple", 0.5, 10, 0.1), "wmaperiod": ("smooth", "smooth", 2, 50, 1),
    "roc1period": ("first", "first", 2, 50, 1), "roc2period": ("second", "second", 2, 50, 1),
    "firstperiod": ("first", "first", 2, 100, 1), "secondperiod": ("second", "second", 2, 100, 1),
    "timeperiod1": ("first", "first", 2, 50, 1), "timeperiod2": ("second", "second", 2, 100, 1),
    "timeperiod3": ("third", "third", 2, 200, 1), "vfactor": ("factor", "volume factor", 0.05, 1, 0.05),
    "fastlimit": ("fast", "fast limit", 0.05, 0.95, 0.05), "slowlimit": ("slow", "slow limit", 0.01, 0.5, 0.01),
    "acceleration": ("step", "acceleration", 0.01, 0.2, 0.01), "maximum": ("most", "largest acceleration", 0.05, 1, 0.05),
    "nbdev": ("multiple", "multiple", 0.5, 5, 0.1), "percentile": ("percent", "percent", 1, 99, 1),
    "rocperiod": ("change", "change over", 2, 100, 1), "stddevperiod": ("deviation", "deviation length", 2, 100, 1)}
BOUNDS = {"percent_r": (-100.0, 0.0)}


@lru_cache(maxsize=200)
def _settings(name: str) -> Mapping[str, float]:
    return MappingProxyType({k: v for k, v in Function(name).info["parameters"].items() if k in SETTINGS})


@lru_cache(maxsize=200)
def _inputs(name: str) -> tuple[str, ...]:
    """The fields a function takes, in its order; "" where the source goes."""
    return tuple("" if key == "price" else field for key, which in Function(name).info["input_names"].items()
                 for field in ([which] if isinstance(which, str) else which))


def _arrays(name: str, bars: Bars, source: Floats) -> list[Floats]:
    """The columns a function takes, in its order."""
    return [np.asarray(getattr(bars, field), np.float64) if field else source for field in _inputs(name)]


def _given(name: str, values: Values) -> dict[str, float]:
    """TA-Lib's own setting names with their values; whole numbers as integers."""
    return {k: int(values[SETTINGS[k][0]]) if isinstance(v, int) else float(values[SETTINGS[k][0]])
            for k, v in _settings(name).items()}


def _compute(name: str, bars: Bars, source: Floats, values: Values) -> tuple[Floats, ...]:
    arrays = _arrays(name, bars, source)
    if len(bars) <= _warm_up(name, values):
        count = len(_outputs_of(name))
        return tuple(np.full(len(bars), np.nan) for _ in range(count))
    made = getattr(talib, name)(*arrays, **_given(name, values))
    several = made if isinstance(made, tuple) else (made,)
    # Whole-number outputs have no NaN of their own.
    whole = [np.where(np.arange(len(x)) < _warm_up(name, values), np.nan, x) if x.dtype.kind == "i" else x for x in several]
    return tuple(np.where(np.isfinite(x), x, np.nan) for x in whole)


@lru_cache(maxsize=200)
def _outputs_of(name: str) -> tuple[str, ...]:
    return tuple(Function(name).info["output_names"])


@lru_cache(maxsize=4096)
def _lookback(name: str, given: tuple[tuple[str, float], ...]) -> int:
    return int(Function(name, **dict(given)).lookback)


def _warm_up(name: str, values: Values) -> int:
    return _lookback(name, tuple(_given(name, values).items()))


def _params(name: str) -> tuple[Param, ...]:
    found = []
    for key, default in _settings(name).items():
        plain, title, low, high, step = SETTINGS[key]
        found.append(Param(plain, title, float(default), low, max(high, float(default)), step))
    return tuple(found)


def _outputs(key: str, title: str, text: str) -> tuple[Output, ...]:
    parts: list[Any] = [p.split(":") for p in text.split(",")]
    found = []
    for name, nature, *mirror in parts:
        words = title if len(parts) == 1 else f"{title} {name.replace('_', ' ')}"
        # A mirror is another output of the same indicator, or, of a single one, another indicator.
        other = None if not mirror else (key, mirror[0]) if len(parts) > 1 else (mirror[0], "value")
        bounds = BOUNDS.get(nature, (0.0, 100.0))
        found.append(Output(name, words if len(parts) > 1 else "value", "bounded" if nature in BOUNDS else nature, bounds,
                            other))
    return tuple(found)


def _described(line: str) -> Indicator:
    name, key, title, group, outputs, formula = (p.strip() for p in line.split(" | "))
    inputs = Function(name).info["input_names"]
    made = _outputs(key, title, outputs)
    return Indicator(key, title, group, made, _params(name), partial(_compute, name), formula, REFERENCE,
                     takes_field="price" in inputs, warm_up=partial(_warm_up, name),
                     on_price=made[0].nature == "price" and group != "arithmetic")


# Patterns that say the same with up and down exchanged. Others reflect into themselves with the sign turned.
_OPPOSITES = (("HAMMER", "SHOOTINGSTAR"), ("MORNINGSTAR", "EVENINGSTAR"), ("MORNINGDOJISTAR", "EVENINGDOJISTAR"),
              ("PIERCING", "DARKCLOUDCOVER"), ("INVERTEDHAMMER", "HANGINGMAN"), ("3WHITESOLDIERS", "3BLACKCROWS"),
              ("DRAGONFLYDOJI", "GRAVESTONEDOJI"))
_MIRRORS = dict(_OPPOSITES) | {b: a for a, b in _OPPOSITES}
# Patterns without a direction: TA-Lib gives +100 wherever they stand.
_UNSIGNED = ("DOJI", "LONGLEGGEDDOJI", "RICKSHAWMAN", "DRAGONFLYDOJI", "GRAVESTONEDOJI", "TAKURI")


def _pattern(text: str) -> Indicator:
    name, title = text.split(" ", 1)
    title = title[0].upper() + title[1:]
    mirror = (f"candle_{_MIRRORS[name].lower()}", "value") if name in _MIRRORS else None
    output = Output("value", "value", "unsigned" if name in _UNSIGNED else "centered", mirror=mirror)
    return Indicator(f"candle_{name.lower()}", title, "candlestick", (output,), (),
                     partial(_compute, f"CDL{name}"), f"{title}: +100 where it is bullish, -100 bearish, 0 where there is none",
                     CANDLES, warm_up=partial(_warm_up, f"CDL{name}"))


def library() -> tuple[Indicator, ...]:
    """Every line of the two tables as an entry of the catalogue."""
    plain = tuple(_described(line) for line in TABLE.strip().splitlines())
    return plain + tuple(_pattern(text) for text in PATTERNS.strip().replace("\n", "|").split("|"))

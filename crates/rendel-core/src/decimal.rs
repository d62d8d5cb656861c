//! Numbers as the decimals that they are written as, so that 0.1 and 0.2 make 0.3.

use std::collections::BTreeMap;
use std::str::FromStr as _;

use bigdecimal::{BigDecimal, RoundingMode, ToPrimitive as _, Zero as _};
use serde_json::Value;

/// A number as the decimal that it is written as.
pub(crate) fn decimal(value: &Value) -> Option<BigDecimal> {
    let Value::Number(number) = value else { return None };
    BigDecimal::from_str(&number.to_string()).ok().map(|number| number.normalized())
}

/// The nearest number that every client reads the same; `null` beyond all numbers.
pub(crate) fn number(decimal: &BigDecimal) -> Value {
    const EXACT: i64 = 1 << 53;
    if decimal.is_integer()
        && let Some(whole) = decimal.to_i64().filter(|whole| whole.abs() < EXACT)
    {
        return whole.into();
    }
    let double = decimal.to_scientific_notation().parse::<f64>().ok();
    double.and_then(serde_json::Number::from_f64).map_or(Value::Null, Value::Number)
}

/// Percent of a whole with one decimal that add up to 100.0, by the largest remainder (Hamilton's
/// method); of equal ones those whose names come first. All are 0 where the whole is nothing, or a
/// part is below it. Cost O(n log n).
pub(crate) fn shares(weights: BTreeMap<String, BigDecimal>) -> BTreeMap<String, Value> {
    let whole: BigDecimal = weights.values().sum();
    let zero = BigDecimal::zero();
    if whole <= zero || weights.values().any(|weight| *weight < zero) {
        return weights.into_keys().map(|group| (group, 0.into())).collect();
    }
    let mut parts: Vec<(String, u64, BigDecimal)> = Vec::new();
    for (group, weight) in weights {
        let exact: BigDecimal = weight * BigDecimal::from(1_000) / &whole;
        let floor = exact.with_scale_round(0, RoundingMode::Floor);
        let tenths = floor.to_u64().unwrap_or(0);
        parts.push((group, tenths, exact - floor));
    }
    let missing = 1_000u64.saturating_sub(parts.iter().map(|(_, tenths, _)| tenths).sum());
    let mut by_remainder: Vec<usize> = (0..parts.len()).collect();
    by_remainder.sort_by(|one, other| parts[*other].2.cmp(&parts[*one].2));
    for index in by_remainder.into_iter().take(usize::try_from(missing).unwrap_or(0)) {
        parts[index].1 += 1;
    }
    let percent = |(group, tenths, _)| (group, number(&(BigDecimal::from(tenths) / 10u32)));
    parts.into_iter().map(percent).collect()
}

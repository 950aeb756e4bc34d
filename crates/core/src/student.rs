//! Points of Student's distribution (R. A. Fisher, F. Yates, *Statistical Tables*, 1938).

/// 97.5 % for 1 to 30 degrees of freedom; the last is for more as well.
const P975: [f64; 30] = [
    12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160, 2.145, 2.131, 2.120,
    2.110, 2.101, 2.093, 2.086, 2.080, 2.074, 2.069, 2.064, 2.060, 2.056, 2.052, 2.048, 2.045, 2.042,
];
/// 99.75 % in the same way.
const P9975: [f64; 30] = [
    127.32, 14.089, 7.453, 5.598, 4.773, 4.317, 4.029, 3.833, 3.690, 3.581, 3.497, 3.428, 3.372, 3.326, 3.286, 3.252,
    3.222, 3.197, 3.174, 3.153, 3.135, 3.119, 3.104, 3.091, 3.078, 3.067, 3.057, 3.047, 3.038, 3.030,
];

/// How sure an interval is, on both sides together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Confidence {
    /// 95 %.
    P95,
    /// 99.5 %.
    P995,
}

/// How many standard errors an interval reaches to each side. Between two whole numbers of degrees of freedom the lower counts.
#[must_use]
pub fn student(confidence: Confidence, degrees: f64) -> f64 {
    let points = match confidence {
        Confidence::P95 => &P975,
        Confidence::P995 => &P9975,
    };
    points[(degrees.floor().max(1.0) as usize).min(points.len()) - 1]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_are_those_of_the_table_and_beyond_it_the_last() {
        for (degrees, p95, p995) in
            [(0.0, 12.706, 127.32), (1.9, 12.706, 127.32), (10.0, 2.228, 3.581), (1e9, 2.042, 3.030)]
        {
            assert_eq!([student(Confidence::P95, degrees), student(Confidence::P995, degrees)], [p95, p995]);
        }
    }
}

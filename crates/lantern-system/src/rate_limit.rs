//! A limited rate with bursts: a token bucket.

use std::time::Instant;

/// How often something may happen.
#[derive(Debug, Clone, Copy)]
pub struct Rate {
    /// Times a second, in the long run.
    pub per_second: f64,
    /// Times at once after a pause.
    pub at_once: f64,
}

/// What is left of a [`Rate`] at a moment.
#[derive(Debug)]
pub struct Allowance {
    rate: Rate,
    left: f64,
    at: Instant,
}

impl Allowance {
    /// A whole burst.
    pub fn full(rate: Rate, now: Instant) -> Allowance {
        Allowance { rate, left: rate.at_once, at: now }
    }

    /// Takes one; whether there was one left.
    pub fn spend(&mut self, now: Instant) -> bool {
        let since = now.saturating_duration_since(self.at).as_secs_f64();
        self.left = (self.left + since * self.rate.per_second).min(self.rate.at_once);
        self.at = now;
        let has_one = self.left >= 1.0;
        if has_one {
            self.left -= 1.0;
        }
        has_one
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_burst_is_used_up_and_comes_back_at_the_rate() {
        let begin = Instant::now();
        let mut allowance = Allowance::full(Rate { per_second: 20.0, at_once: 40.0 }, begin);
        let at = |allowance: &mut Allowance, now: Instant| {
            std::iter::from_fn(|| allowance.spend(now).then_some(())).count()
        };
        assert_eq!(at(&mut allowance, begin), 40);
        assert_eq!(at(&mut allowance, begin + Duration::from_millis(100)), 2);
        assert_eq!(at(&mut allowance, begin + Duration::from_secs(60)), 40);
    }
}

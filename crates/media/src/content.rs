//! What the pixels of a picture hold, as far as that tells a mistake from a picture.

/// Sums over all samples of a picture; types whose pixels nothing here unpacks leave it untouched.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Content {
    /// Samples seen, alpha apart.
    pub samples: u64,
    /// Whether a colour sample is above black.
    pub light: bool,
    /// Whether a sample is no finite number.
    pub not_finite: bool,
    /// The lowest and the highest alpha; `None` where there is none.
    pub alpha: Option<(f32, f32)>,
    /// A digest of all samples in their order.
    sum: u64,
}

impl Content {
    /// Takes in one sample.
    pub(crate) fn add(&mut self, value: f32, is_alpha: bool) {
        self.not_finite |= !value.is_finite();
        self.sum = (self.sum ^ u64::from(value.to_bits())).wrapping_mul(0x0100_0000_01b3).rotate_left(5);
        if is_alpha {
            let (low, high) = self.alpha.unwrap_or((value, value));
            self.alpha = Some((low.min(value), high.max(value)));
        } else {
            self.samples += 1;
            self.light |= value != 0.0;
        }
    }

    /// Takes in samples of pixels with `channels` samples each, the last of which is alpha where `alpha` says so.
    pub(crate) fn add_all(&mut self, values: impl Iterator<Item = f32>, channels: usize, alpha: bool) {
        for (at, value) in values.enumerate() {
            self.add(value, alpha && at % channels == channels - 1);
        }
    }

    /// A number that two pictures share when they show the same; `None` where nothing was seen.
    #[must_use]
    pub fn digest(&self) -> Option<u64> {
        (self.samples > 0).then_some(self.sum)
    }

    /// What is odd about a picture of colours; of data and masks only numbers that are none.
    #[must_use]
    pub fn odd(&self, is_colour: bool) -> Option<String> {
        if self.not_finite {
            return Some("it holds numbers that are not finite".to_owned());
        }
        if is_colour && self.samples > 0 && !self.light {
            return Some("it is black".to_owned());
        }
        match self.alpha {
            Some((low, high)) if is_colour && low == high => Some(format!("its alpha is {low} everywhere")),
            _ => None,
        }
    }
}

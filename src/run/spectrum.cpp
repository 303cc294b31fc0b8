// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/spectrum.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <unsupported/Eigen/FFT>

namespace calm::run {

Spectrum spectrumOf(const std::vector<double>& samples, double interval) {
  Spectrum s;
  const std::size_t count = samples.size();
  if (count < 4) return s;
  double mean = 0, gain = 0;
  for (const double x : samples) mean += x / static_cast<double>(count);
  std::vector<double> windowed(count);
  for (std::size_t i = 0; i < count; ++i) {
    const double hann =
        0.5 * (1 - std::cos(2 * std::numbers::pi * static_cast<double>(i) / static_cast<double>(count)));
    windowed[i] = hann * (samples[i] - mean);
    gain += hann;
  }
  std::vector<std::complex<double>> bins;
  Eigen::FFT<double> transform;
  transform.fwd(bins, windowed);
  for (std::size_t k = 0; k <= count / 2; ++k) {
    s.frequency.push_back(static_cast<double>(k) / (static_cast<double>(count) * interval));
    s.amplitude.push_back(k == 0 ? std::abs(mean) : 2 * std::abs(bins[k]) / gain);
  }
  const auto largest = std::max_element(s.amplitude.begin() + 1, s.amplitude.end());
  const auto at = static_cast<std::size_t>(largest - s.amplitude.begin());
  s.peakFrequency = s.frequency[at];
  s.peakAmplitude = *largest;
  if (at < 2 || at + 1 >= s.amplitude.size() || s.amplitude[at - 1] <= 0 || s.amplitude[at + 1] <= 0) return s;
  const double a = std::log(s.amplitude[at - 1]), b = std::log(*largest), c = std::log(s.amplitude[at + 1]);
  const double shift = a - 2 * b + c < 0 ? 0.5 * (a - c) / (a - 2 * b + c) : 0;
  s.peakFrequency += shift * s.frequency[1];
  s.peakAmplitude = std::exp(b - 0.25 * (a - c) * shift);
  return s;
}

}  // namespace calm::run

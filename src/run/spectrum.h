// SPDX-License-Identifier: GPL-3.0-or-later
// What frequencies a reading holds.
#pragma once

#include <vector>

namespace calm::run {

struct Spectrum {
  std::vector<double> frequency;  // Hz, from 0 to half the sampling rate
  std::vector<double> amplitude;  // of the sine at each, in the reading's unit; that at 0 Hz is the mean
  // Hz and amplitude of the largest but the mean, between bins by a parabola through the logarithms.
  double peakFrequency = 0, peakAmplitude = 0;
};
// Of evenly spaced samples. The mean is taken off and a Hann window laid on before the transform, and its gain taken
// out again (Harris, Proc. IEEE 66, 1978). Fewer than 4 samples have none: all is empty.
Spectrum spectrumOf(const std::vector<double>& samples, double interval);

}  // namespace calm::run

// SPDX-License-Identifier: GPL-3.0-or-later
// What the lanes show: for each row and frame its worst value and the joint that has it. Grows with the recording.
#pragma once

#include <cstdint>
#include <vector>

#include "app/ledger/rows.h"
#include "app/session.h"

namespace calm::app {

class Lanes {
 public:
  // Starts anew for these rows.
  void reset(std::size_t rows);
  // Takes in the frames that have come since.
  void update(const run::Recording* recording, const Largest& scale, Quantity quantity,
              const std::vector<LedgerRow>& rows);

  std::size_t frames() const { return frames_; }
  // 0 to 1 along the ramp, 1 and above failing.
  float value(std::size_t row, std::size_t frame) const { return lanes_[row].values[frame]; }
  // The row's joint that was worst at the frame; an index into rig.joints.
  std::size_t worst(std::size_t row, std::size_t frame) const { return lanes_[row].worst[frame]; }
  // Over the whole recording.
  float peak(std::size_t row) const { return lanes_[row].peak; }
  std::size_t peakFrame(std::size_t row) const { return lanes_[row].peakFrame; }

 private:
  struct Lane {
    std::vector<float> values;
    std::vector<std::uint32_t> worst;
    float peak = 0;
    std::size_t peakFrame = 0;
  };
  std::vector<Lane> lanes_;
  std::size_t frames_ = 0;
  const run::Recording* seen_ = nullptr;
  Quantity quantity_ = Quantity::load;
  Largest scale_;
};

// Where a joint of a recording is on the ramp for a quantity at a frame, against the largest values given: 1 and above
// is failing.
double laneValue(const run::Recording& recording, const Largest& largest, Quantity quantity, std::size_t joint,
                 std::size_t frame);

// Separation on the ramp: a nanometre is 0, a tenth of a millimetre 1, by powers of ten.
double separationFraction(double metres);

}  // namespace calm::app

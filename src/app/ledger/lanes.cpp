// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/ledger/lanes.h"

#include <algorithm>
#include <cmath>

namespace calm::app {

double separationFraction(double metres) {
  return metres <= 1e-9 ? 0 : (std::log10(metres) + 9) / 5;
}

void Lanes::reset(std::size_t rows) {
  lanes_.assign(rows, {});
  frames_ = 0;
}

void Lanes::update(const Session& session, const std::vector<LedgerRow>& rows) {
  const run::Recording* recording = session.recording();
  // Loads without a strength are shown against the largest of the run; when that grows, all lanes pale.
  const double scale = recording && recording->size() ? session.largestForce() : 0;
  if (recording != seen_ || session.quantity() != quantity_ || scale != scale_) reset(rows.size());
  seen_ = recording;
  quantity_ = session.quantity();
  scale_ = scale;
  if (!recording) return;
  const std::size_t end = recording->size();
  for (std::size_t r = 0; r < rows.size(); ++r) {
    Lane& lane = lanes_[r];
    lane.values.reserve(recording->capacity());
    for (std::size_t f = frames_; f < end; ++f) {
      float worst = 0;
      std::size_t culprit = rows[r].joints.empty() ? 0 : rows[r].joints.front();
      for (std::size_t j : rows[r].joints) {
        const run::JointSample& sample = recording->frame(f).joints[j];
        const double value =
            quantity_ == Quantity::load ? session.loadFraction(j, sample) : separationFraction(sample.separation);
        if (value > worst) worst = static_cast<float>(value), culprit = j;
      }
      lane.values.push_back(worst);
      lane.worst.push_back(static_cast<std::uint32_t>(culprit));
      if (worst > lane.peak) lane.peak = worst, lane.peakFrame = f;
    }
  }
  frames_ = end;
}

}  // namespace calm::app

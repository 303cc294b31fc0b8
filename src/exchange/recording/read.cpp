// SPDX-License-Identifier: GPL-3.0-or-later
#include <algorithm>
#include <cmath>

#include "exchange/recording/layout.h"
#include "rig/file.h"

namespace calm::exchange {

namespace {

constexpr hsize_t kMostFrames = 10'000'000;

// The first text of a dataset or attribute, which may be of fixed or variable length.
template <class Read>
std::string textFrom(hid_t type, hid_t space, const Read& read) {
  if (H5Tget_class(type) != H5T_STRING) return {};
  if (H5Tis_variable_str(type) > 0) {
    char* value = nullptr;
    if (read(&value) < 0 || !value) return {};
    std::string text = value;
    H5Dvlen_reclaim(type, space, H5P_DEFAULT, &value);
    return text;
  }
  std::string text(H5Tget_size(type), '\0');
  return read(text.data()) < 0 ? std::string() : text.substr(0, text.find('\0'));
}

std::string attributeText(hid_t file, const char* name) {
  const Handle attribute(H5Aopen(file, name, H5P_DEFAULT), H5Aclose);
  if (!attribute.valid()) return {};
  const Handle type(H5Aget_type(attribute), H5Tclose), space(H5Aget_space(attribute), H5Sclose);
  if (H5Sget_simple_extent_npoints(space) != 1) return {};
  return textFrom(type, space, [&](void* to) { return H5Aread(attribute, type, to); });
}

std::string datasetText(hid_t file, const char* place) {
  const Handle set(H5Dopen2(file, place, H5P_DEFAULT), H5Dclose);
  if (!set.valid()) return {};
  const Handle type(H5Dget_type(set), H5Tclose), space(H5Dget_space(set), H5Sclose);
  if (H5Sget_simple_extent_npoints(space) != 1) return {};
  return textFrom(type, space, [&](void* to) { return H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, to); });
}

int versionOf(hid_t file) {
  const Handle attribute(H5Aopen(file, "version", H5P_DEFAULT), H5Aclose);
  int version = 0;
  if (attribute.valid()) {
    const Handle space(H5Aget_space(attribute), H5Sclose);
    if (H5Sget_simple_extent_npoints(space) == 1) H5Aread(attribute, H5T_NATIVE_INT, &version);
  }
  return version;
}

std::vector<double> partingsOf(hid_t file, const std::string& name, std::size_t joints) {
  std::vector<double> times(joints, -1);
  if (joints == 0) return times;
  const Handle set(H5Dopen2(file, "joints/parted_at_s", H5P_DEFAULT), H5Dclose);
  if (!set.valid()) throw RecordingError(name + ": joints/parted_at_s: is missing");
  const Handle space(H5Dget_space(set), H5Sclose);
  if (H5Sget_simple_extent_npoints(space) != static_cast<hssize_t>(joints) ||
      H5Dread(set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) < 0)
    throw RecordingError(fmt::format("{}: joints/parted_at_s: expected {} numbers", name, joints));
  return times;
}

// Values that the screens and the engine go on with.
class Reader {
 public:
  Reader(std::string name, hsize_t frame) : name_(std::move(name)), frame_(frame) {}

  double number(double value, const char* place) const {
    if (!std::isfinite(value))
      throw RecordingError(fmt::format("{}: {}: frame {} holds no number", name_, place, frame_));
    return value;
  }
  Vec3 vector(const double* v, const char* place) const {
    return {number(v[0], place), number(v[1], place), number(v[2], place)};
  }
  Quat orientation(const double* q, const char* place) const {
    const Quat turn(number(q[0], place), number(q[1], place), number(q[2], place), number(q[3], place));
    if (std::abs(turn.norm() - 1) > 1e-3)
      throw RecordingError(fmt::format("{}: {}: frame {}: expected a length of 1", name_, place, frame_));
    return turn;
  }

 private:
  std::string name_;
  hsize_t frame_;
};

run::FrameData frameFrom(Layout& l, hsize_t i, const rig::Rig& rig, const Reader& check, double before) {
  run::FrameData f;
  f.time = check.number(*l.time.frame(i), "time_s");
  if (!(f.time > before)) check.number(NAN, "time_s");
  f.energy = *l.energy.frame(i);
  f.kineticEnergy = *l.kinetic.frame(i);
  f.residual.linear = *l.residual.frame(i);
  f.residual.angular = *l.angularResidual.frame(i);
  f.residual.contactSpeed = *l.contactResidual.frame(i);
  f.residual.substeps = *l.substeps.frame(i);
  const double *position = l.position.frame(i), *turn = l.orientation.frame(i), *velocity = l.velocity.frame(i),
               *spin = l.angularVelocity.frame(i), *touch = l.touch.frame(i);
  for (std::size_t p = 0; p < rig.parts.size(); ++p)
    f.parts.push_back({{check.vector(position + 3 * p, "parts/position_m"),
                        check.orientation(turn + 4 * p, "parts/orientation_wxyz")},
                       check.vector(velocity + 3 * p, "parts/velocity_m_s"),
                       check.vector(spin + 3 * p, "parts/angular_velocity_rad_s"),
                       touch[p]});
  const float *force = l.force.frame(i), *torque = l.torque.frame(i), *apart = l.separation.frame(i),
              *askew = l.misalignment.frame(i), *at = l.axisPosition.frame(i), *effort = l.axisEffort.frame(i);
  const std::uint8_t* activity = l.axisActivity.frame(i);
  for (std::size_t j = 0; j < rig.joints.size(); ++j) {
    run::JointSample& s = f.joints.emplace_back();
    s.force = static_cast<float>(check.number(force[j], "joints/force_N"));
    s.torque = static_cast<float>(check.number(torque[j], "joints/torque_Nm"));
    s.separation = static_cast<float>(check.number(apart[j], "joints/separation_m"));
    s.misalignment = askew[j];
    for (std::size_t k = 0; k < kMaxAxes; ++k) {
      s.position[k] = at[j * kMaxAxes + k];
      s.effort[k] = effort[j * kMaxAxes + k];
      s.activity[k] = activity[j * kMaxAxes + k];
    }
  }
  for (std::size_t c = 0; c < rig.cues.size(); ++c) {
    run::CueSample& s = f.cues.emplace_back();
    s.begunAt = l.begunAt.frame(i)[c];
    s.energy = l.cueEnergy.frame(i)[c];
    const int body = l.body.frame(i)[c];
    if (body != 1 && body != 2) continue;
    s.body = static_cast<run::CueSample::Body>(body);
    s.radius = static_cast<float>(check.number(l.bodyRadius.frame(i)[c], "cues/body_radius_m"));
    s.pose = {check.vector(l.bodyPosition.frame(i) + 3 * c, "cues/body_position_m"),
              check.orientation(l.bodyOrientation.frame(i) + 4 * c, "cues/body_orientation_wxyz")};
  }
  return f;
}

}  // namespace

std::shared_ptr<run::Recording> loadRecording(const std::filesystem::path& path, const Progress& progress,
                                              const std::atomic<bool>* stop) {
  const std::lock_guard lock(libraryLock());
  const Quiet quiet;
  const std::string name = path.filename().string();
  const Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
  if (!file.valid()) throw RecordingError(path.string() + ": cannot be read as an HDF5 file");
  if (attributeText(file, "format") != kRecordingFormat)
    throw RecordingError(name + ": the attribute \"format\" is not \"" + kRecordingFormat + "\"");
  if (const int version = versionOf(file); version != kRecordingVersion)
    throw RecordingError(
        fmt::format("{}: is of version {}; version {} is known here", name, version, kRecordingVersion));
  const std::string text = datasetText(file, "rig");
  if (text.empty()) throw RecordingError(name + ": rig: expected the rig as a text");
  const auto rig = std::make_shared<const rig::Rig>(rig::parseRig(text, name + ": rig"));
  Layout columns;
  long long frames = -1;
  columns.each(rig->parts.size(), rig->joints.size(), rig->cues.size(),
               [&]<class C>(C& column, const char* place, std::initializer_list<hsize_t> shape) {
                 column = C::open(file, name, place, shape, frames);
                 if (frames < 0) frames = static_cast<long long>(column.frames());
               });
  if (frames < 1 || frames > static_cast<long long>(kMostFrames))
    throw RecordingError(fmt::format("{}: time_s: expected 1 to {} frames, found {}", name, kMostFrames, frames));
  const std::vector<double> partedAt = partingsOf(file, name, rig->joints.size());
  auto recording = std::make_shared<run::Recording>(rig, static_cast<std::size_t>(frames));
  recording->setName(attributeText(file, "name"));
  double before = -1;
  for (hsize_t i = 0; i < static_cast<hsize_t>(frames); ++i) {
    if (stop && stop->load()) return nullptr;
    run::FrameData frame = frameFrom(columns, i, *rig, Reader(name, i), before);
    before = frame.time;
    if (i + 1 == static_cast<hsize_t>(frames)) frame.partedAt = partedAt;
    recording->append(frame);
    if (progress) progress(i + 1, static_cast<std::size_t>(frames));
  }
  return recording;
}

}  // namespace calm::exchange

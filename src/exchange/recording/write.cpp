// SPDX-License-Identifier: GPL-3.0-or-later
#include <unistd.h>

#include <algorithm>

#include "exchange/recording/layout.h"
#include "rig/file.h"

namespace calm::exchange {

namespace {

Handle textType() {
  Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
  H5Tset_size(type, H5T_VARIABLE);
  H5Tset_cset(type, H5T_CSET_UTF8);
  return type;
}

void writeAttribute(hid_t file, const char* name, hid_t type, const void* value) {
  const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
  const Handle attribute(H5Acreate2(file, name, type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
  if (!attribute.valid() || H5Awrite(attribute, type, value) < 0)
    throw RecordingError(std::string(name) + ": cannot be written");
}

void writeText(hid_t file, const char* name, const std::string& text) {
  const Handle type = textType();
  const char* value = text.c_str();
  writeAttribute(file, name, type, &value);
}

// A dataset of what does not change over time.
void writeList(hid_t file, const char* place, hid_t type, hsize_t count, const void* values) {
  if (count == 0) return;
  const Handle space(H5Screate_simple(1, &count, nullptr), H5Sclose);
  const Handle set(H5Dcreate2(file, place, type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
  if (!set.valid() || H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, values) < 0)
    throw RecordingError(std::string(place) + ": cannot be written");
}

template <class Items, class Name>
void writeNames(hid_t file, const std::string& group, const Items& items, const Name& nameOf) {
  std::vector<std::string> names;
  std::vector<int> ids;
  for (const auto& item : items) names.push_back(nameOf(item)), ids.push_back(item.id);
  std::vector<const char*> texts;
  for (const std::string& n : names) texts.push_back(n.c_str());
  const Handle type = textType();
  writeList(file, (group + "/name").c_str(), type, texts.size(), texts.data());
  writeList(file, (group + "/id").c_str(), H5T_NATIVE_INT, ids.size(), ids.data());
}

void add(Column<double>& column, const Vec3& v) {
  for (int i = 0; i < 3; ++i) column.add(v[i]);
}

void add(Column<double>& column, const Quat& q) {
  for (const double x : {q.w(), q.x(), q.y(), q.z()}) column.add(x);
}

}  // namespace

struct RecordingWriter::File {
  std::filesystem::path path, part;
  std::string name;
  Handle file;
  Layout columns;
  std::size_t cues = 0;
  hsize_t joints = 0;

  template <class AnyFrame>
  void append(const AnyFrame& f) {
    columns.time.add(f.time);
    columns.energy.add(f.energy);
    columns.kinetic.add(f.kineticEnergy);
    columns.residual.add(f.residual.linear);
    columns.angularResidual.add(f.residual.angular);
    columns.contactResidual.add(f.residual.contactSpeed);
    columns.substeps.add(f.residual.substeps);
    for (const run::PartSample& p : f.parts) {
      add(columns.position, p.pose.position);
      add(columns.orientation, p.pose.rotation);
      add(columns.velocity, p.velocity);
      add(columns.angularVelocity, p.angularVelocity);
      columns.touch.add(p.touch);
    }
    for (const run::JointSample& j : f.joints) {
      columns.force.add(j.force);
      columns.torque.add(j.torque);
      columns.separation.add(j.separation);
      columns.misalignment.add(j.misalignment);
      for (std::size_t k = 0; k < kMaxAxes; ++k) {
        columns.axisPosition.add(j.position[k]);
        columns.axisEffort.add(j.effort[k]);
        columns.axisActivity.add(j.activity[k]);
      }
    }
    for (std::size_t i = 0; i < cues; ++i) {
      const run::CueSample& c = f.cues[i];
      columns.begunAt.add(c.begunAt);
      columns.cueEnergy.add(c.energy);
      columns.body.add(static_cast<int>(c.body));
      columns.bodyRadius.add(c.radius);
      add(columns.bodyPosition, c.pose.position);
      add(columns.bodyOrientation, c.pose.rotation);
    }
    forEach([](auto& column) { column.endFrame(); });
  }
  template <class Do>
  void forEach(const Do& act) {
    columns.each(0, 0, 0, [&](auto& column, const char*, std::initializer_list<hsize_t>) { act(column); });
  }
  // What fails names the file.
  template <class Do>
  void guarded(const Do& act) {
    const std::lock_guard lock(libraryLock());
    const Quiet quiet;
    try {
      act();
    } catch (const RecordingError& e) {
      throw RecordingError(name + ": " + e.what());
    }
  }
};

RecordingWriter::RecordingWriter(const std::filesystem::path& path, const rig::Rig& rig, const std::string& name)
    : file_(std::make_unique<File>()) {
  const std::lock_guard lock(libraryLock());
  const Quiet quiet;
  file_->path = path;
  file_->part = path.string() + ".part";
  file_->name = path.filename().string();
  file_->cues = rig.cues.size();
  file_->joints = rig.joints.size();
  file_->file = Handle(H5Fcreate(file_->part.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
  if (!file_->file.valid()) throw RecordingError(path.string() + ": cannot be written");
  file_->guarded([&] {
    const hid_t file = file_->file;
    writeText(file, "format", kRecordingFormat);
    writeAttribute(file, "version", H5T_NATIVE_INT, &kRecordingVersion);
    writeText(file, "name", name);
    writeAttribute(file, "frame_rate_Hz", H5T_NATIVE_DOUBLE, &rig.stage.frameRate);
    for (const char* group : {"parts", "joints", "cues"})
      const Handle made(H5Gcreate2(file, group, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
    const std::string text = rig::formatRig(rig);
    const char* json = text.c_str();
    const Handle type = textType();
    writeList(file, "rig", type, 1, &json);
    writeNames(file, "parts", rig.parts, [](const rig::Part& p) { return p.name; });
    writeNames(file, "joints", rig.joints, [](const rig::Joint& j) { return j.name; });
    writeNames(file, "cues", rig.cues, [&](const rig::Cue& c) { return rig::textOf(c, rig); });
    file_->columns.each(rig.parts.size(), rig.joints.size(), rig.cues.size(),
                        [&]<class C>(C& column, const char* place, std::initializer_list<hsize_t> shape) {
                          column = C::create(file, place, shape);
                        });
  });
}

RecordingWriter::~RecordingWriter() {
  const std::lock_guard lock(libraryLock());
  if (!file_->file.valid()) return;
  file_->columns = {};
  file_->file.reset();
  std::error_code ignored;
  std::filesystem::remove(file_->part, ignored);
}

void RecordingWriter::append(const run::FrameData& frame) {
  file_->guarded([&] { file_->append(frame); });
}

void RecordingWriter::append(const run::Frame& frame) {
  file_->guarded([&] { file_->append(frame); });
}

void RecordingWriter::finish(const std::vector<double>& partedAt) {
  file_->guarded([&] {
    file_->forEach([](auto& column) { column.flush(); });
    writeList(file_->file, "joints/parted_at_s", H5T_NATIVE_DOUBLE, file_->joints, partedAt.data());
    if (H5Fflush(file_->file, H5F_SCOPE_GLOBAL) < 0) throw RecordingError("cannot be written; is the disk full?");
    file_->columns = {};
    file_->file.reset();
    std::error_code error;
    std::filesystem::rename(file_->part, file_->path, error);
    if (error) throw RecordingError("cannot be replaced: " + error.message());
  });
}

bool saveRecording(const run::Recording& recording, const std::filesystem::path& path, const Progress& progress,
                   const std::atomic<bool>* stop) {
  RecordingWriter writer(path, recording.rig(), recording.name());
  const std::size_t count = recording.size();
  for (std::size_t i = 0; i < count; ++i) {
    if (stop && stop->load()) return false;
    writer.append(recording.frame(i));
    if (progress) progress(i + 1, count);
  }
  std::vector<double> partedAt;
  for (std::size_t j = 0; j < recording.rig().joints.size(); ++j)
    partedAt.push_back(recording.partedAt(j).value_or(-1));
  writer.finish(partedAt);
  return true;
}

}  // namespace calm::exchange

// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/make/import.h"

#include <QFileDialog>
#include <QPointer>
#include <QThreadPool>

#include "engine/shape/mesh.h"
#include "rig/edits.h"

namespace calm::app {

namespace {
constexpr std::pair<const char*, double> kUnits[] = {
    {"metres", 1}, {"centimetres", 0.01}, {"millimetres", 0.001}, {"inches", 0.0254}};
}

ImportMaker::ImportMaker(Session& session, QWidget* parent)
    : Maker(session, tr("Import"), tr("A mesh from OBJ, STL, PLY or glTF, and the shape that is to stand in for it."),
            tr("Bring it in"), parent) {
  file_ = new QLineEdit;
  file_->setAccessibleName(tr("File"));
  addRow(tr("File"), file_);
  auto* browse = new QPushButton(tr("Choose\u2026"));
  addRow(QString(), browse);
  connect(browse, &QPushButton::clicked, this, [this] {
    const QString path = QFileDialog::getOpenFileName(this, tr("Import a mesh"), file_->text(),
                                                      tr("Meshes (*.obj *.stl *.ply *.gltf *.glb)"));
    if (!path.isEmpty()) choose(path);
  });
  connect(file_, &QLineEdit::editingFinished, this, &ImportMaker::fit);
  QStringList units, kinds;
  for (const auto& [word, metres] : kUnits) units << tr(word);
  for (const auto& [kind, word] : exchange::kStandInWords) kinds << tr(word);
  unit_ = addChoice(tr("Its unit"), units);
  up_ = addChoice(tr("Its up"), {"y", "z"});
  kind_ = addChoice(tr("Stand-in"), kinds);
  pieces_ = new QSpinBox;
  pieces_->setRange(2, 64);
  pieces_->setValue(16);
  pieces_->setAccessibleName(tr("Pieces at most"));
  addRow(tr("Pieces at most"), pieces_);
  density_ = addField(tr("Density"), rig::Dimension::density, 1000);
  outcome_ = new QLabel;
  outcome_->setObjectName("outcome");
  outcome_->setWordWrap(true);
  addRow(QString(), outcome_);
  for (QComboBox* box : {unit_, up_, kind_}) connect(box, &QComboBox::currentIndexChanged, this, &ImportMaker::fit);
  connect(pieces_, &QSpinBox::valueChanged, this, &ImportMaker::fit);
}

void ImportMaker::choose(const QString& file) {
  file_->setText(file);
  fit();
}

void ImportMaker::fit() {
  const int serial = ++asked_;
  if (file_->text().isEmpty()) return;
  const std::string path = file_->text().toStdString();
  const exchange::MeshOptions how{kUnits[unit_->currentIndex()].second, up_->currentIndex() == 1};
  exchange::StandInOptions what;
  what.kind = exchange::kStandInWords[kind_->currentIndex()].first;
  what.pieces = pieces_->value();
  QThreadPool::globalInstance()->start([=, self = QPointer<ImportMaker>(this)] {
    Fit fit;
    try {
      fit.meshes = exchange::readMeshes(path, how);
      for (const exchange::ImportedMesh& mesh : fit.meshes) {
        fit.parts.push_back(exchange::standIn(mesh, what));
        fit.checks.push_back(exchange::checkStandIn(mesh, fit.parts.back()));
      }
    } catch (const std::exception& e) {
      fit.fault = QString::fromStdString(e.what());
    }
    // The panel may be gone, or have asked for something else.
    QMetaObject::invokeMethod(qApp, [self, serial, done = std::move(fit)] {
      if (!self || self->asked_ != serial) return;
      self->fit_ = done;
      self->fittedFor_ = serial;
      self->refresh();
    });
  });
  refresh();
}

QString ImportMaker::words() const {
  QStringList lines;
  for (std::size_t i = 0; i < fit_.parts.size() && i < 6; ++i) {
    const FitCheck& check = fit_.checks[i];
    QString line = QString::fromStdString(fit_.parts[i].name);
    if (std::holds_alternative<TriangleMesh>(fit_.parts[i].shape))
      line += tr(": static, as it is");
    else if (check.covered > 0)
      line +=
          tr(": covers %1 %, %2 % of it empty").arg(100 * check.covered, 0, 'f', 1).arg(100 * check.excess, 0, 'f', 1);
    else
      line += tr(": its surface is open, so its inside cannot be compared");
    if (const auto* compound = std::get_if<Compound>(&fit_.parts[i].shape))
      line += tr(", %1 pieces").arg(compound->shapes.size());
    if (check.pokesOut > 0 && !check.outside.empty())
      line +=
          tr(", %1 outside").arg(QString::fromStdString(rig::formatQuantity(check.pokesOut, rig::Dimension::length)));
    lines << line + ".";
  }
  if (fit_.parts.size() > 6) lines << tr("And %1 more.").arg(fit_.parts.size() - 6);
  return lines.join('\n');
}

QString ImportMaker::preview(Preview& preview) {
  showRow(pieces_, exchange::kStandInWords[kind_->currentIndex()].first == exchange::StandIn::pieces);
  outcome_->clear();
  if (file_->text().isEmpty()) return tr("Choose a file.");
  if (isFitting()) return tr("Reading and fitting\u2026");
  if (!fit_.fault.isEmpty()) return fit_.fault;
  if (!density_->value()) return tr("Type a density, for example 1000 kg/m3.");
  for (const rig::Part& part : fit_.parts) preview.moved.push_back(part);
  for (const exchange::ImportedMesh& mesh : fit_.meshes) {
    rig::Part drawn;
    drawn.shape =
        TriangleMesh{std::make_shared<const MeshData>(makeMesh(mesh.surface.vertices, mesh.surface.triangles))};
    preview.reference.push_back(drawn);
  }
  for (const FitCheck& check : fit_.checks) {
    preview.outside.insert(preview.outside.end(), check.outside.begin(), check.outside.end());
    preview.emptiness.insert(preview.emptiness.end(), check.emptiness.begin(), check.emptiness.end());
  }
  outcome_->setText(words());
  return {};
}

QString ImportMaker::stepName() const {
  return tr("import %1").arg(QFileInfo(file_->text()).fileName());
}

void ImportMaker::apply(rig::Rig& rig) {
  made_.clear();
  for (rig::Part part : fit_.parts) {
    part.heft = rig::Density{*density_->value()};
    made_.insert(rig::addPart(rig, part));
  }
  for (const rig::Fault& f : rig::faultsOf(rig)) throw std::invalid_argument(f.text());
}

}  // namespace calm::app

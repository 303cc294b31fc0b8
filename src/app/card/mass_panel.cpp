// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/card/mass_panel.h"

#include <QLineEdit>
#include <QVBoxLayout>
#include <algorithm>
#include <stdexcept>

#include "app/card/row.h"
#include "app/look/look.h"

namespace calm::app {

namespace {

double read(const QString& text, rig::Dimension dimension, const char* example) {
  const auto value = rig::parseQuantity(text.toStdString(), dimension);
  if (!value)
    throw std::invalid_argument(
        QObject::tr("\"%1\" is no value here; type for example %2").arg(text, example).toStdString());
  return *value;
}

// "500 kg", or "x 1.5" for one and a half times what it is.
void putMass(rig::Part& part, const QString& text) {
  const bool factor = text.startsWith('x') || text.startsWith('*') || text.startsWith(QChar(0xD7));
  const double value = factor ? part.mass() * read(text.mid(1).trimmed(), rig::Dimension::number, "x 1.5")
                              : read(text, rig::Dimension::mass, "500 kg, or x 1.5");
  if (!(value > 0)) throw std::invalid_argument("a mass must be above 0; type for example 500 kg");
  // A given inertia goes with its mass.
  if (part.inertia) *part.inertia *= value / part.mass();
  part.heft = rig::Mass{value};
}

}  // namespace

MassPanel::MassPanel(Session& session, const std::vector<rig::Id>& parts, QWidget* parent)
    : QWidget(parent), session_(session), parts_(parts) {
  column_ = new QVBoxLayout(this);
  column_->setContentsMargins(0, 0, 0, 0);
  column_->setSpacing(3);
  using rig::Part;
  addRow({tr("Mass"), [](const Part& p) { return look::words(p.mass(), rig::Dimension::mass, 5); }, putMass, {}});
  addRow({tr("Density"),
          [](const Part& p) { return look::words(p.mass() / volumeOf(p.shape), rig::Dimension::density, 5); },
          [](Part& p, const QString& text) {
            const double density = read(text, rig::Dimension::density, "7850 kg/m3");
            if (!(density > 0)) throw std::invalid_argument("a density must be above 0; type for example 7850 kg/m3");
            if (p.inertia) *p.inertia *= density * volumeOf(p.shape) / p.mass();
            p.heft = rig::Density{density};
          },
          {}});
  for (int k = 0; k < 3; ++k) addCenter(k);
  for (int k = 0; k < 3; ++k) addInertia(k);
}

void MassPanel::addCenter(int k) {
  const QString axis = QStringLiteral("xyz").mid(k, 1);
  addRow({tr("Centre of mass %1").arg(axis),
          [k](const rig::Part& p) {
            return p.center ? look::words((*p.center)[k], rig::Dimension::length, 5) : QString();
          },
          [k](rig::Part& p, const QString& text) {
            if (text.isEmpty()) return p.center.reset();
            Vec3 center = p.massProperties().center;
            center[k] = read(text, rig::Dimension::length, "12 cm");
            p.center = center;
          },
          tr("the solid's")});
}

void MassPanel::addInertia(int k) {
  const QString axis = QStringLiteral("xyz").mid(k, 1);
  addRow({tr("Inertia about %1, kg m\u00b2").arg(axis),
          [k](const rig::Part& p) { return p.inertia ? QString::number((*p.inertia)(k, k), 'g', 5) : QString(); },
          [k](rig::Part& p, const QString& text) {
            if (text.isEmpty()) return p.inertia.reset();
            Mat3 inertia = p.massProperties().inertia;
            inertia(k, k) = read(text, rig::Dimension::number, "0.4");
            p.inertia = inertia;
          },
          QString::number(session_.rig().part(parts_[0])->massProperties().inertia(k, k), 'g', 4)});
}

void MassPanel::addRow(const Row& row) {
  auto* field = new QLineEdit;
  const QString present = row.show(*session_.rig().part(parts_[0]));
  const bool differ = std::any_of(parts_.begin(), parts_.end(),
                                  [&](rig::Id id) { return row.show(*session_.rig().part(id)) != present; });
  field->setText(differ ? QString() : present);
  field->setPlaceholderText(differ ? tr("they differ") : row.nothing);
  field->setAlignment(Qt::AlignRight);
  field->setFixedWidth(110);
  field->setAccessibleName(row.label);
  column_->addLayout(captioned(row.label, field));
  connect(field, &QLineEdit::editingFinished, this, [=, this, before = field->text()] {
    const QString text = field->text().trimmed();
    if (text == before) return;
    const bool done = session_.editEach(tr("set %1").arg(row.label.toLower()), parts_,
                                        [put = row.put, text](rig::Rig& rig, rig::Id id) {
                                          if (rig::Part* part = rig.part(id)) put(*part, text);
                                        });
    if (!done) field->setText(before);
  });
}

}  // namespace calm::app

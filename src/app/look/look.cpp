// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/look/look.h"

#include <QFontDatabase>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

namespace calm::app::look {

QFont font(Size size, bool strong) {
  static const QString family = QFontDatabase::families().contains(QStringLiteral("Inter"))
                                    ? QStringLiteral("Inter")
                                    : QStringLiteral("DejaVu Sans");
  QFont f(family);
  f.setPointSizeF(size == Size::small ? 8.0 : size == Size::text ? 9.0 : 11.5);
  f.setWeight(strong ? QFont::DemiBold : QFont::Normal);
  return f;
}

QColor loadColor(double fraction) {
  if (fraction >= 1) return kBrick;
  // Equal steps of lightness in one blue-green hue.
  constexpr int kStops = 5;
  static const QColor stops[kStops] = {QColor(0xDB, 0xE9, 0xE6), QColor(0xA9, 0xCD, 0xCC), QColor(0x6C, 0xA9, 0xB0),
                                       QColor(0x34, 0x7C, 0x8C), QColor(0x12, 0x45, 0x5E)};
  const double at = std::clamp(fraction, 0.0, 1.0) * (kStops - 1);
  const int i = std::min(static_cast<int>(at), kStops - 2);
  const double t = at - i;
  const auto mix = [&](int a, int b) { return static_cast<int>(std::lround(a + (b - a) * t)); };
  return QColor(mix(stops[i].red(), stops[i + 1].red()), mix(stops[i].green(), stops[i + 1].green()),
                mix(stops[i].blue(), stops[i + 1].blue()));
}

void drawGlyph(QPainter& painter, const QRectF& square, JointType type, const QColor& color) {
  painter.save();
  painter.setRenderHint(QPainter::Antialiasing);
  painter.setPen(QPen(color, 1.6));
  painter.setBrush(kPaper);
  const QPointF c = square.center();
  const double r = square.width() * 0.32;
  switch (type) {
    case JointType::ball:  // a ball in its open cup
      painter.drawArc(QRectF(c.x() - r * 1.4, c.y() - r * 1.4, r * 2.8, r * 2.8), 40 * 16, 280 * 16);
      painter.setBrush(color);
      painter.drawEllipse(c, r * 0.62, r * 0.62);
      break;
    case JointType::hinge:  // a pin across: circle with the axis through it
      painter.drawEllipse(c, r, r);
      painter.drawLine(QPointF(c.x() - r * 1.6, c.y()), QPointF(c.x() + r * 1.6, c.y()));
      break;
    case JointType::slider:  // a block on its rail
      painter.drawLine(QPointF(c.x() - r * 1.7, c.y()), QPointF(c.x() + r * 1.7, c.y()));
      painter.drawRect(QRectF(c.x() - r * 0.8, c.y() - r * 0.7, 1.6 * r, 1.4 * r));
      break;
    case JointType::cylinder:  // a sleeve on its shaft
      painter.drawLine(QPointF(c.x() - r * 1.7, c.y()), QPointF(c.x() + r * 1.7, c.y()));
      painter.drawRoundedRect(QRectF(c.x() - r, c.y() - r * 0.7, 2 * r, 1.4 * r), r * 0.6, r * 0.6);
      break;
    case JointType::universal:  // a cross in its ring
      painter.drawEllipse(c, r * 1.2, r * 1.2);
      painter.drawLine(QPointF(c.x() - r * 1.2, c.y()), QPointF(c.x() + r * 1.2, c.y()));
      painter.drawLine(QPointF(c.x(), c.y() - r * 1.2), QPointF(c.x(), c.y() + r * 1.2));
      break;
    case JointType::planar:  // a block on a plate
      painter.drawLine(QPointF(c.x() - r * 1.5, c.y() + r), QPointF(c.x() + r * 1.5, c.y() + r));
      painter.drawRect(QRectF(c.x() - r * 0.8, c.y() - r * 0.6, 1.6 * r, 1.6 * r));
      break;
    case JointType::distance:  // two eyes and the line between
      painter.drawLine(QPointF(c.x() - r * 1.2, c.y()), QPointF(c.x() + r * 1.2, c.y()));
      painter.drawEllipse(QPointF(c.x() - r * 1.3, c.y()), r * 0.4, r * 0.4);
      painter.drawEllipse(QPointF(c.x() + r * 1.3, c.y()), r * 0.4, r * 0.4);
      break;
    case JointType::limb:  // a bone in the cone of its reach
      painter.drawLine(QPointF(c.x(), c.y() + r * 1.3), QPointF(c.x() - r * 1.1, c.y() - r * 1.1));
      painter.drawLine(QPointF(c.x(), c.y() + r * 1.3), QPointF(c.x() + r * 1.1, c.y() - r * 1.1));
      painter.drawArc(QRectF(c.x() - r * 1.1, c.y() - r * 1.6, r * 2.2, r), 0, 360 * 16);
      painter.setBrush(color);
      painter.drawEllipse(QPointF(c.x(), c.y() + r * 1.2), r * 0.45, r * 0.45);
      break;
    case JointType::wheel:  // a wheel under its strut
      painter.drawLine(QPointF(c.x(), c.y() - r * 1.7), QPointF(c.x(), c.y() + r * 0.4));
      painter.drawEllipse(QPointF(c.x(), c.y() + r * 0.5), r * 1.1, r * 1.1);
      painter.setBrush(color);
      painter.drawEllipse(QPointF(c.x(), c.y() + r * 0.5), r * 0.3, r * 0.3);
      break;
    case JointType::screw:  // a shaft with its thread
      painter.drawLine(QPointF(c.x() - r * 1.6, c.y()), QPointF(c.x() + r * 1.6, c.y()));
      for (const double x : {-0.9, -0.1, 0.7})
        painter.drawLine(QPointF(c.x() + x * r, c.y() + r * 0.8), QPointF(c.x() + (x + 0.5) * r, c.y() - r * 0.8));
      break;
    case JointType::sixAxis:  // the three axes from one corner
      painter.drawLine(c, QPointF(c.x(), c.y() - r * 1.4));
      painter.drawLine(c, QPointF(c.x() + r * 1.3, c.y() + r * 0.8));
      painter.drawLine(c, QPointF(c.x() - r * 1.3, c.y() + r * 0.8));
      painter.setBrush(color);
      painter.drawEllipse(c, r * 0.4, r * 0.4);
      break;
    case JointType::spring: {  // its coil
      QPolygonF coil{QPointF(c.x() - r * 1.7, c.y())};
      for (int i = 0; i < 6; ++i) coil << QPointF(c.x() + r * (-1.1 + 0.44 * i), c.y() + (i % 2 ? r : -r) * 0.8);
      coil << QPointF(c.x() + r * 1.7, c.y());
      painter.drawPolyline(coil);
      break;
    }
    case JointType::pulley:  // a sheave and the rope over it
      painter.drawEllipse(QPointF(c.x(), c.y() - r * 0.4), r * 0.9, r * 0.9);
      painter.drawLine(QPointF(c.x() - r * 0.9, c.y() - r * 0.4), QPointF(c.x() - r * 0.9, c.y() + r * 1.5));
      painter.drawLine(QPointF(c.x() + r * 0.9, c.y() - r * 0.4), QPointF(c.x() + r * 0.9, c.y() + r * 1.5));
      break;
    case JointType::winch:  // a drum between its cheeks, the rope leaving it
      painter.drawRect(QRectF(c.x() - r * 0.8, c.y() - r * 1.1, r * 1.6, r * 1.3));
      for (const double x : {-1.1, 1.1})
        painter.drawLine(QPointF(c.x() + x * r, c.y() - r * 1.5), QPointF(c.x() + x * r, c.y() + r * 0.6));
      painter.drawLine(QPointF(c.x() + r * 0.4, c.y() + r * 0.2), QPointF(c.x() + r * 0.4, c.y() + r * 1.7));
      break;
    case JointType::gear:  // two wheels that mesh
      painter.drawEllipse(QPointF(c.x() - r * 0.65, c.y()), r * 0.75, r * 0.75);
      painter.drawEllipse(QPointF(c.x() + r * 0.85, c.y()), r * 0.55, r * 0.55);
      painter.setBrush(color);
      painter.drawEllipse(QPointF(c.x() + r * 0.15, c.y()), r * 0.22, r * 0.22);
      break;
    case JointType::rack:  // a pinion on its bar
      painter.drawEllipse(QPointF(c.x(), c.y() - r * 0.4), r * 0.85, r * 0.85);
      painter.drawLine(QPointF(c.x() - r * 1.6, c.y() + r), QPointF(c.x() + r * 1.6, c.y() + r));
      for (const double x : {-1.2, -0.4, 0.4, 1.2})
        painter.drawLine(QPointF(c.x() + x * r, c.y() + r), QPointF(c.x() + x * r, c.y() + r * 0.6));
      break;
    case JointType::fixed:  // a weld: square with its seam
      painter.drawRect(QRectF(c.x() - r, c.y() - r, 2 * r, 2 * r));
      painter.drawLine(QPointF(c.x() - r, c.y() + r), QPointF(c.x() + r, c.y() - r));
      break;
  }
  painter.restore();
}

void drawLineGlyph(QPainter& painter, const QRectF& square, const QColor& color) {
  painter.save();
  painter.setRenderHint(QPainter::Antialiasing);
  painter.setPen(QPen(color, 1.5));
  painter.setBrush(Qt::NoBrush);
  const QPointF c = square.center();
  const double w = square.width() * 0.22, h = square.width() * 0.16;
  for (const double shift : {-1.35, 0.0, 1.35}) painter.drawEllipse(QPointF(c.x() + shift * w, c.y()), w, h);
  painter.restore();
}

void drawParted(QPainter& painter, const QPointF& center) {
  painter.save();
  painter.setRenderHint(QPainter::Antialiasing);
  for (const auto& [color, width] : {std::pair(kPaper, 4.0), std::pair(kBrick, 2.0)}) {
    painter.setPen(QPen(color, width, Qt::SolidLine, Qt::RoundCap));
    painter.drawLine(center + QPointF(-4, -4), center + QPointF(4, 4));
    painter.drawLine(center + QPointF(-4, 4), center + QPointF(4, -4));
  }
  painter.restore();
}

QString words(double value, rig::Dimension dimension, int digits) {
  return std::isfinite(value) ? QString::fromStdString(rig::formatQuantity(value, dimension, digits)) : QString();
}

QString styleSheet() {
  const auto name = [](const QColor& c) { return c.name(); };
  return QStringLiteral(R"(
QWidget { background: %1; color: %2; }
QLabel { background: transparent; }
QLabel[muted="true"] { color: %3; }
QLabel[fault="true"] { color: %6; }
QLineEdit, QComboBox, QSpinBox {
  border: none; border-bottom: 1px solid %4; background: transparent; padding: 3px 2px; selection-background-color: %5; }
QLineEdit:focus, QComboBox:focus, QSpinBox:focus { border-bottom: 2px solid %5; }
QLineEdit[fault="true"] { border-bottom: 2px solid %6; }
QPushButton { border: 1px solid %4; border-radius: 12px; padding: 4px 12px; background: %1; }
QPushButton:hover { border-color: %5; }
QPushButton:focus { border: 2px solid %5; padding: 3px 11px; }
QPushButton:checked, QPushButton[primary="true"] { background: %5; color: %1; border-color: %5; }
QPushButton:disabled { color: %4; background: %1; border-color: %4; }
QMenu { border: 1px solid %4; padding: 4px; }
QMenu::item { padding: 4px 22px 4px 12px; }
QMenu::item:selected { background: %7; }
QMenuBar { background: %1; }
QMenuBar::item { padding: 4px 8px; background: transparent; }
QMenuBar::item:selected { background: %7; }
QScrollBar:vertical { width: 8px; background: transparent; }
QScrollBar::handle:vertical { background: %4; border-radius: 4px; min-height: 24px; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; }
QListWidget::item { padding: 4px 6px; border-radius: 4px; }
QListWidget::item:selected { background: %7; color: %2; }
QToolTip { background: %1; color: %2; border: 1px solid %4; padding: 3px; }
QSplitter::handle { background: %4; }
)")
      .arg(name(kPaper), name(kInk), name(kMuted), name(kHairline), name(kTeal), name(kBrick), name(kTealTint));
}

}  // namespace calm::app::look

// SPDX-License-Identifier: GPL-3.0-or-later
#include "app/look/plots.h"

#include <qcustomplot.h>

#include <numbers>

#include "app/look/look.h"

namespace calm::app::look {

void dressPlot(QCustomPlot& plot) {
  plot.setBackground(kPaper);
  for (QCPAxis* axis : {plot.xAxis, plot.yAxis, plot.yAxis2}) {
    axis->setTickLabelFont(font(Size::small));
    axis->setLabelFont(font(Size::small));
    axis->setBasePen(QPen(kHairline));
    axis->setTickPen(QPen(kHairline));
    axis->setSubTickPen(Qt::NoPen);
    axis->grid()->setPen(QPen(kHairline, 1, Qt::DotLine));
    axis->grid()->setZeroLinePen(QPen(kHairline));
    axis->setTickLabelColor(kMuted);
    axis->setLabelColor(kMuted);
  }
}

double plotFactor(rig::Dimension dimension) {
  return dimension == rig::Dimension::angle ? 180 / std::numbers::pi : 1;
}

QString plotUnit(rig::Dimension dimension) {
  if (dimension == rig::Dimension::angle) return QStringLiteral("deg");
  return QString::fromStdString(rig::formatQuantity(1, dimension)).section(' ', 1);
}

}  // namespace calm::app::look

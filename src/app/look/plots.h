// SPDX-License-Identifier: GPL-3.0-or-later
// How plots look, and in which units they are drawn.
#pragma once

#include <QString>

#include "rig/units.h"

class QCustomPlot;

namespace calm::app::look {

// Paper, small pale numbers, hairlines.
void dressPlot(QCustomPlot& plot);
// Plots are in degrees where angles are meant, otherwise in SI.
double plotFactor(rig::Dimension dimension);
QString plotUnit(rig::Dimension dimension);

}  // namespace calm::app::look

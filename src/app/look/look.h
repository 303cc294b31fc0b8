// SPDX-License-Identifier: GPL-3.0-or-later
// The look: chart paper and deep water. Every colour, size and sign of the window is defined here.
#pragma once

#include <QColor>
#include <QFont>
#include <QPainter>

#include "rig/model.h"
#include "rig/units.h"

namespace calm::app::look {

// Paper and ink.
inline const QColor kPaper(0xFC, 0xFA, 0xF5);
inline const QColor kWell(0xF3, 0xEE, 0xE3);  // hollows: empty bars, tracks
inline const QColor kHairline(0xE2, 0xDA, 0xCA);
inline const QColor kInk(0x1C, 0x2A, 0x33);
inline const QColor kMuted(0x6B, 0x77, 0x7C);
// Water: what is selected or can be dragged.
inline const QColor kTeal(0x0F, 0x6E, 0x84);
inline const QColor kTealTint(0xDF, 0xEE, 0xEF);
// Trouble.
inline const QColor kBrick(0xB0, 0x38, 0x2C);
inline const QColor kAmber(0xA8, 0x6A, 0x10);
inline const QColor kAmberTint(0xFB, 0xEB, 0xD4);
// The View's haze, from above to below the horizon.
inline const QColor kHazeHigh(0xEE, 0xF4, 0xF4);
inline const QColor kHazeLow(0xD3, 0xDE, 0xE0);
// Parts: stone for what stands, sea glass for what moves by itself.
inline const QColor kStone(0xC9, 0xC0, 0xAE);
inline const QColor kGlass(0x8F, 0xB3, 0xB8);
// And driftwood for what is moved.
inline const QColor kSand(0xB9, 0xA0, 0x7C);

constexpr int kRowHeight = 24;
constexpr int kMargin = 14;
constexpr int kCardWidth = 300;

// Sizes in points: small labels, text, headings.
enum class Size { small, text, heading };
QFont font(Size size, bool strong = false);

// The load ramp, pale to deep in one hue; 1 and above is brick red.
QColor loadColor(double fraction);

// The sign of a joint type in a square of this size: ISO 3952 where it has one.
void drawGlyph(QPainter& painter, const QRectF& square, JointType type, const QColor& color);
// The sign of a line of links.
void drawLineGlyph(QPainter& painter, const QRectF& square, const QColor& color);
// The cross with which a lane says that the joint parted.
void drawParted(QPainter& painter, const QPointF& center);

// A value as the window tells it; nothing of what is not finite.
QString words(double value, rig::Dimension dimension, int digits = 3);

// The style sheet of ordinary controls.
QString styleSheet();

}  // namespace calm::app::look

// SPDX-License-Identifier: GPL-3.0-or-later
// Reading and writing the rig format; see docs/rig-format.md.
#pragma once

#include <filesystem>
#include <stdexcept>
#include <string>

#include "rig/model.h"

namespace calm::rig {

// What is wrong with a file, and where: "jib.rig.json: parts[3].shape.size_m: expected three numbers above 0".
class FileError : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

constexpr int kFormatVersion = 1;

// What happens to files of a newer version: they are refused, or read for what is known of them, to be looked at.
enum class Newer { refused, toLookAt };

// Throw FileError; `source` names the text in messages.
Rig parseRig(const std::string& text, const std::string& source, Newer newer = Newer::refused);
Rig loadRig(const std::filesystem::path& path, Newer newer = Newer::refused);
// Why a rig of a newer version cannot be changed or saved.
std::string newerVersionWords(int version);

std::string formatRig(const Rig& rig);
// Writes to a new file beside `path`, flushes it to the disk and renames it, so that there is always a whole file under
// the name: the old one or the new.
void saveRig(const Rig& rig, const std::filesystem::path& path);
// The same for any text.
void writeWholeFile(const std::filesystem::path& path, const std::string& text);

}  // namespace calm::rig

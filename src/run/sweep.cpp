// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/sweep.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <sstream>
#include <stdexcept>
#include <thread>

#include "rig/file.h"

namespace calm::run {

namespace {

constexpr std::pair<Outcome::Of, const char*> kOutcomeWords[] = {
    {Outcome::Of::peak, "peak"}, {Outcome::Of::least, "least"}, {Outcome::Of::most, "most"},
    {Outcome::Of::mean, "mean"}, {Outcome::Of::end, "end"},     {Outcome::Of::partedAt, "parting of"}};

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t"), last = text.find_last_not_of(" \t");
  return first == std::string::npos ? std::string() : text.substr(first, last - first + 1);
}

double quantity(const std::string& text, const rig::Setting& setting) {
  const auto value = rig::parseQuantity(trimmed(text), setting.dimension);
  if (!value) throw std::invalid_argument(fmt::format("\"{}\" is no value for {}", trimmed(text), setting.name));
  return *value;
}

// FNV-1a, 64 bits: tells tables of different rigs apart.
std::string checksum(const std::string& text) {
  std::uint64_t hash = 14695981039346656037u;
  for (const unsigned char c : text) hash = (hash ^ c) * 1099511628211u;
  return fmt::format("{:016x}", hash);
}

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c == '\n' ? ' ' : c);
  return out + "\"";
}

// Of our own tables: cells are numbers or quoted.
std::vector<std::string> cellsOf(const std::string& line) {
  std::vector<std::string> cells(1);
  bool inside = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (line[i] == '"') {
      if (inside && i + 1 < line.size() && line[i + 1] == '"')
        cells.back() += line[++i];
      else
        inside = !inside;
    } else if (line[i] == ',' && !inside) {
      cells.emplace_back();
    } else {
      cells.back() += line[i];
    }
  }
  return cells;
}

// Whole lines only.
std::vector<std::string> linesOf(const std::string& text) {
  std::vector<std::string> lines;
  std::size_t from = 0;
  for (std::size_t at; (at = text.find('\n', from)) != std::string::npos; from = at + 1)
    lines.push_back(text.substr(from, at - from));
  return lines;
}

SweepPoint runPoint(const SweepPlan& plan, std::size_t index, const std::atomic<bool>* stop) {
  SweepPoint point;
  point.index = index;
  point.settings = plan.settingsAt(index);
  try {
    const auto recording = record(std::make_shared<const rig::Rig>(plan.rigAt(index)), stop);
    for (const Outcome& o : plan.outcomes) point.outcomes.push_back(valueOf(*recording, o));
    for (const Verdict& v : judgeAll(*recording)) point.met += v.met;
  } catch (const std::exception& e) {
    point.outcomes.assign(plan.outcomes.size(), std::nan(""));
    point.fault = e.what();
  }
  return point;
}

}  // namespace

SweepAxis sweepAxis(const std::string& text, const rig::Rig& rig) {
  const std::size_t equals = text.rfind('=');
  if (equals == std::string::npos)
    throw std::invalid_argument("\"" + text +
                                "\": expected a setting and its values, as in \"mass of crate = 1 kg..5 kg : 9\"");
  const std::string name = trimmed(text.substr(0, equals));
  const auto setting = rig::settingNamed(name, rig);
  if (!setting) throw std::invalid_argument("there is no setting \"" + name + "\" in this rig");
  SweepAxis axis{*setting, {}};
  std::string range = text.substr(equals + 1);
  const std::size_t dots = range.find("..");
  if (dots == std::string::npos) {
    std::istringstream list(range);
    for (std::string value; std::getline(list, value, ',');) axis.values.push_back(quantity(value, *setting));
    if (axis.values.empty()) throw std::invalid_argument("\"" + text + "\": expected values after =");
    return axis;
  }
  const std::size_t colon = range.rfind(':');
  if (colon == std::string::npos || colon < dots)
    throw std::invalid_argument("\"" + text + "\": expected a number of values after \":\"");
  std::string count = trimmed(range.substr(colon + 1));
  const bool byFactors = count.ends_with("log");
  if (byFactors) count = trimmed(count.substr(0, count.size() - 3));
  const auto n = rig::parseQuantity(count, rig::Dimension::number);
  if (!n || *n < 2 || *n > 100000 || *n != std::floor(*n))
    throw std::invalid_argument("\"" + count + "\": expected 2 to 100000 values");
  const double low = quantity(range.substr(0, dots), *setting),
               high = quantity(range.substr(dots + 2, colon - dots - 2), *setting);
  if (byFactors && !(low > 0 && high > 0))
    throw std::invalid_argument("\"" + text + "\": values by equal factors must be above 0");
  for (int i = 0; i < *n; ++i) {
    const double share = i / (*n - 1);
    axis.values.push_back(byFactors ? low * std::pow(high / low, share) : low + share * (high - low));
  }
  return axis;
}

Outcome outcomeFrom(const std::string& text, const rig::Rig& rig) {
  for (const auto& [of, word] : kOutcomeWords) {
    const std::string head = std::string(word) + " ";
    if (!text.starts_with(head)) continue;
    const std::string rest = trimmed(text.substr(head.size()));
    Outcome outcome;
    outcome.of = of;
    if (of == Outcome::Of::partedAt) {
      const auto joint =
          std::find_if(rig.joints.begin(), rig.joints.end(), [&](const rig::Joint& j) { return j.name == rest; });
      if (joint == rig.joints.end()) throw std::invalid_argument("there is no joint \"" + rest + "\"");
      outcome.joint = joint->id;
      return outcome;
    }
    const auto reading = rig::readingFrom(rest, rig);
    if (!reading) throw std::invalid_argument("\"" + rest + "\" is no reading of this rig, as \"force of NAME\" is");
    outcome.reading = *reading;
    return outcome;
  }
  throw std::invalid_argument("\"" + text +
                              "\": expected peak, least, most, mean or end and a reading, or parting of a joint");
}

std::string textOf(const Outcome& outcome, const rig::Rig& rig) {
  for (const auto& [of, word] : kOutcomeWords)
    if (of == outcome.of)
      return std::string(word) + " " +
             (of == Outcome::Of::partedAt ? rig.joint(outcome.joint)->name : rig::textOf(outcome.reading, rig));
  return {};
}

double valueOf(const Recording& recording, const Outcome& outcome) {
  if (outcome.of == Outcome::Of::partedAt) {
    for (std::size_t j = 0; j < recording.rig().joints.size(); ++j)
      if (recording.rig().joints[j].id == outcome.joint) return recording.partedAt(j).value_or(std::nan(""));
    return std::nan("");
  }
  const std::vector<double> series = seriesOf(recording, outcome.reading);
  double sum = 0, peak = 0;
  for (const double v : series) sum += v, peak = std::abs(v) > std::abs(peak) ? v : peak;
  switch (outcome.of) {
    case Outcome::Of::least:
      return *std::min_element(series.begin(), series.end());
    case Outcome::Of::most:
      return *std::max_element(series.begin(), series.end());
    case Outcome::Of::mean:
      return sum / static_cast<double>(series.size());
    case Outcome::Of::end:
      return series.back();
    default:
      return peak;
  }
}

std::size_t SweepPlan::points() const {
  std::size_t count = 1;
  for (const SweepAxis& axis : axes) count *= axis.values.size();
  return count;
}

std::vector<double> SweepPlan::settingsAt(std::size_t point) const {
  std::vector<double> values(axes.size());
  for (std::size_t k = axes.size(); k-- > 0;) {
    values[k] = axes[k].values[point % axes[k].values.size()];
    point /= axes[k].values.size();
  }
  return values;
}

rig::Rig SweepPlan::rigAt(std::size_t point) const {
  rig::Rig changed = rig;
  const std::vector<double> values = settingsAt(point);
  for (std::size_t k = 0; k < axes.size(); ++k) axes[k].setting.set(changed, values[k]);
  for (const rig::Fault& f : rig::faultsOf(changed)) throw std::invalid_argument(f.text());
  return changed;
}

void sweep(const SweepPlan& plan, const SweepOptions& options) {
  std::vector<std::size_t> todo;
  for (std::size_t i = static_cast<std::size_t>(options.shard); i < plan.points();
       i += static_cast<std::size_t>(options.shards))
    if (i >= options.done.size() || !options.done[i]) todo.push_back(i);
  std::atomic<std::size_t> next{0};
  std::mutex reporting;
  std::exception_ptr failure;  // of onPoint, on whichever thread
  const auto work = [&] {
    const auto stopped = [&] { return options.stop && options.stop->load(); };
    for (std::size_t k; !stopped() && (k = next++) < todo.size();) {
      const SweepPoint point = runPoint(plan, todo[k], options.stop);
      const std::lock_guard lock(reporting);
      // A run that was stopped in the middle is no result; and where one cannot be kept, no other will be.
      if (stopped() || failure || !options.onPoint) continue;
      try {
        options.onPoint(point);
      } catch (...) {
        failure = std::current_exception();
        next = todo.size();
      }
    }
  };
  {
    std::vector<std::jthread> others;
    for (int i = 1; i < options.threads; ++i) others.emplace_back(work);
    work();
  }
  if (failure) std::rethrow_exception(failure);
}

std::string sweepHeader(const SweepPlan& plan) {
  std::string text = "# calm-tether sweep of " + checksum(rig::formatRig(plan.rig)) + "\n\"index\"";
  for (const SweepAxis& axis : plan.axes) text += "," + quoted(axis.setting.name);
  for (const Outcome& o : plan.outcomes) text += "," + quoted(textOf(o, plan.rig));
  return text + ",\"expectations met\",\"fault\"\n";
}

std::string sweepRow(const SweepPoint& point) {
  std::string row = std::to_string(point.index);
  for (const double v : point.settings) row += fmt::format(",{}", v);
  for (const double v : point.outcomes) row += std::isnan(v) ? "," : fmt::format(",{}", v);
  return row + fmt::format(",{},{}\n", point.met, point.fault.empty() ? "" : quoted(point.fault));
}

std::vector<SweepPoint> readSweep(const std::string& text, const SweepPlan& plan) {
  if (text.find('\n') == std::string::npos) return {};  // cut short before anything was kept
  const std::string header = sweepHeader(plan);
  const std::vector<std::string> lines = linesOf(text), expected = linesOf(header);
  if (lines.empty() || lines[0] != expected[0]) throw std::invalid_argument("the table is of another rig");
  std::vector<SweepPoint> points;
  if (lines.size() < 2) return points;
  if (lines[1] != expected[1]) throw std::invalid_argument("the table is of another sweep");
  for (std::size_t i = 2; i < lines.size(); ++i) {
    const std::vector<std::string> cells = cellsOf(lines[i]);
    const std::size_t settings = plan.axes.size(), outcomes = plan.outcomes.size();
    if (cells.size() != 1 + settings + outcomes + 2)
      throw std::invalid_argument(fmt::format("line {} of the table has {} cells", i + 1, cells.size()));
    SweepPoint point;
    try {
      point.index = std::stoul(cells[0]);
      for (std::size_t k = 0; k < settings; ++k) point.settings.push_back(std::stod(cells[1 + k]));
      for (std::size_t k = 0; k < outcomes; ++k) {
        const std::string& cell = cells[1 + settings + k];
        point.outcomes.push_back(cell.empty() ? std::nan("") : std::stod(cell));
      }
      point.met = std::stoi(cells[1 + settings + outcomes]);
    } catch (const std::exception&) {
      throw std::invalid_argument(fmt::format("line {} of the table is no point", i + 1));
    }
    point.fault = cells.back();
    if (point.index >= plan.points() || point.settings != plan.settingsAt(point.index))
      throw std::invalid_argument(fmt::format("line {} of the table is of other values", i + 1));
    points.push_back(std::move(point));
  }
  return points;
}

std::string mergeSweeps(const std::vector<std::string>& tables) {
  std::string head;
  std::map<std::size_t, std::string> rows;
  for (const std::string& table : tables) {
    const std::vector<std::string> lines = linesOf(table);
    if (lines.size() < 2) throw std::invalid_argument("a table without its two lines of heading");
    const std::string own = lines[0] + "\n" + lines[1] + "\n";
    if (head.empty()) head = own;
    if (own != head) throw std::invalid_argument("the tables are of different rigs or sweeps");
    for (std::size_t i = 2; i < lines.size(); ++i) {
      unsigned long index = 0;
      try {
        index = std::stoul(lines[i].substr(0, 12));
      } catch (const std::exception&) {
        throw std::invalid_argument(fmt::format("line {} of a table is no point", i + 1));
      }
      rows[index] = lines[i] + "\n";
    }
  }
  std::string text = head;
  for (const auto& row : rows) text += row.second;
  return text;
}

}  // namespace calm::run

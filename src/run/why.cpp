// SPDX-License-Identifier: GPL-3.0-or-later
#include "run/why.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

#include "rig/advice/advice.h"
#include "rig/selection.h"
#include "run/measures.h"

namespace calm::run {

namespace {

using Act = rig::Cue::Act;
using rig::Id;
using rig::Reading;

// What the causes look at: the run around the worst moment, and the joint's part of the rig.
struct Scene {
  const Recording& recording;
  const Trouble& trouble;
  const rig::Rig& rig = recording.rig();
  const rig::Joint& joint = *rig.joint(trouble.joint);
  std::size_t index = static_cast<std::size_t>(&joint - rig.joints.data());
  std::size_t worst = recording.indexAt(trouble.at + 1e-9);

  double substep() const { return 1 / (rig.stage.frameRate * rig.stage.substeps); }
  const rig::Part* part(Id id) const { return rig.part(id); }
  std::string seconds(double t) const { return fmt::format("{:.2f} s", t); }
  std::string words(double v, rig::Dimension d) const { return rig::formatQuantity(v, d); }
};

Remedy finerSteps(const Scene& s, int factor) {
  const int substeps = s.rig.stage.substeps * factor;
  return {fmt::format("Take {} substeps instead of {}", substeps, s.rig.stage.substeps),
          [substeps](rig::Rig& r) { r.stage.substeps = substeps; }, std::nan("")};
}

std::vector<Id> movingPartsOf(const Scene& s) {
  std::vector<Id> parts;
  for (const Id id : {s.joint.a.part, s.joint.b.part})
    if (const rig::Part* p = s.part(id); p && p->role == Role::dynamic) parts.push_back(id);
  return parts;
}

// The load swings up within a tenth of a second from less than a third of itself: something fell into the joint.
void findJerk(const Scene& s, std::vector<Cause>& found) {
  const double peak = s.recording.frame(s.worst).joints[s.index].force;
  std::size_t before = s.worst;  // not back to the start, which has no load yet
  while (before > 1 && s.recording.frame(s.worst).time - s.recording.frame(before).time < 0.1) --before;
  double least = peak;
  for (std::size_t i = before; i <= s.worst; ++i)
    least = std::min(least, double(s.recording.frame(i).joints[s.index].force));
  if (peak <= 0 || least > peak / 3) return;
  Cause cause;
  cause.text = "The load came as a jerk: something was slack and then taut";
  cause.evidence =
      fmt::format("from {} to {} within {:.0f} ms, at {}", s.words(least, rig::Dimension::force),
                  s.words(peak, rig::Dimension::force),
                  1e3 * (s.recording.frame(s.worst).time - s.recording.frame(before).time), s.seconds(s.trouble.at));
  cause.weight = 0.9;
  cause.on = {s.joint.id};
  // Damping of what the joint is part of.
  const std::set<Id> all = rig::assemblyOf(s.rig, {s.joint.id});
  for (const double damping : {2.0, 8.0})
    cause.remedies.push_back({fmt::format("Damp what hangs together here by {:g} 1/s more", damping),
                              [all, damping](rig::Rig& r) {
                                for (rig::Part& p : r.parts)
                                  if (all.count(p.id) && p.role == Role::dynamic)
                                    p.linearDamping += damping, p.angularDamping += damping;
                              },
                              std::nan("")});
  // A start at rest, if it began in motion.
  const bool moving = std::any_of(s.rig.parts.begin(), s.rig.parts.end(), [&](const rig::Part& p) {
    return all.count(p.id) && p.role == Role::dynamic && (p.velocity.norm() > 1e-3 || p.angularVelocity.norm() > 1e-3);
  });
  if (moving)
    cause.remedies.push_back({"Start at half the speed",
                              [all](rig::Rig& r) {
                                for (rig::Part& p : r.parts)
                                  if (all.count(p.id) && p.role == Role::dynamic)
                                    p.velocity /= 2, p.angularVelocity /= 2;
                              },
                              std::nan("")});
  found.push_back(std::move(cause));
}

// A stop of this joint was struck near the worst moment.
void findStop(const Scene& s, std::vector<Cause>& found) {
  const int axes = axesOf(s.joint.type).all();
  for (int k = 0; k < axes; ++k) {
    const AxisDef& axis = s.joint.axes[k];
    if (!axis.hasHardStops() || axis.isLocked()) continue;
    // A frame may end just off a stop that was struck in it.
    const double near = 1e-3 * (std::isfinite(axis.high - axis.low) ? axis.high - axis.low : 1);
    const std::size_t last = std::min(s.worst + 2, s.recording.size() - 1);
    for (std::size_t i = s.worst > 3 ? s.worst - 3 : 0; i <= last; ++i) {
      const JointSample& sample = s.recording.frame(i).joints[s.index];
      const bool low = sample.activity[k] & kAtLowStop || sample.position[k] < axis.low + near;
      const bool high = sample.activity[k] & kAtHighStop || sample.position[k] > axis.high - near;
      if (!low && !high) continue;
      const bool turns = rig::axisTurns(s.joint.type, k);
      double rate = 0;
      for (std::size_t b = i > 5 ? i - 5 : 1; b <= i; ++b)
        rate = std::max(rate, std::abs(valueOf(s.recording, {Reading::What::rate, s.joint.id, k}, b)));
      Cause cause;
      cause.text = fmt::format("It ran into its {} stop", low ? "low" : "high");
      cause.evidence = fmt::format("at {}, coming at {}", s.seconds(s.recording.frame(i).time),
                                   s.words(rate, turns ? rig::Dimension::turnRate : rig::Dimension::speed));
      cause.weight = 1;
      cause.on = {s.joint.id};
      if (const auto inertia = inertiaAlong(s.rig, s.joint.id, k))
        for (const double frequency : {10.0, 3.0}) {
          const double omega = 2 * std::numbers::pi * frequency;
          cause.remedies.push_back({fmt::format("Make its stops springs of {:g} Hz", frequency),
                                    [id = s.joint.id, k, m = *inertia, omega](rig::Rig& r) {
                                      AxisDef& a = r.joint(id)->axes[k];
                                      a.stopStiffness = m * omega * omega, a.stopDamping = m * omega;
                                      a.restitution = 0;
                                    },
                                    std::nan("")});
        }
      if (axis.restitution > 0)
        cause.remedies.push_back({"Let its stops send nothing back",
                                  [id = s.joint.id, k](rig::Rig& r) { r.joint(id)->axes[k].restitution = 0; },
                                  std::nan("")});
      found.push_back(std::move(cause));
      break;
    }
  }
}

// The motor could not do more.
void findMotorAtCap(const Scene& s, std::vector<Cause>& found) {
  const int axes = axesOf(s.joint.type).all();
  for (int k = 0; k < axes; ++k) {
    std::size_t capped = 0;
    for (std::size_t i = 1; i < s.recording.size(); ++i)
      capped += (s.recording.frame(i).joints[s.index].activity[k] & (kMotorAtCap | kSpringAtCap)) != 0;
    const double share = static_cast<double>(capped) / static_cast<double>(s.recording.size());
    const AxisDef& axis = s.joint.axes[k];
    if (share < 0.05 || !(axis.cap > 0 || std::isfinite(axis.springCap))) continue;
    Cause cause;
    cause.text = "Its drive was at its strength and could not do what it was asked";
    cause.evidence = fmt::format("{:.0f} % of the run", 100 * share);
    cause.weight = 0.6;
    cause.on = {s.joint.id};
    cause.remedies.push_back({"Give the drive half its strength",
                              [id = s.joint.id, k](rig::Rig& r) {
                                AxisDef& a = r.joint(id)->axes[k];
                                a.cap /= 2, a.springCap /= 2;
                              },
                              std::nan("")});
    cause.remedies.push_back({"Give the drive twice its strength",
                              [id = s.joint.id, k](rig::Rig& r) {
                                AxisDef& a = r.joint(id)->axes[k];
                                a.cap *= 2, a.springCap *= 2;
                              },
                              std::nan("")});
    found.push_back(std::move(cause));
  }
}

// Heavy things carried by light ones.
void findMassRatio(const Scene& s, std::vector<Cause>& found) {
  const rig::Part *heavy = nullptr, *light = nullptr;
  for (const Id id : rig::assemblyOf(s.rig, {s.joint.id})) {
    const rig::Part* p = s.part(id);
    if (!p || p->role != Role::dynamic) continue;
    if (!heavy || p->mass() > heavy->mass()) heavy = p;
    if (!light || p->mass() < light->mass()) light = p;
  }
  if (!heavy || heavy->mass() < 100 * light->mass()) return;
  Cause cause;
  cause.text = fmt::format("It carries {}, far heavier than what lies between", heavy->name);
  cause.evidence = fmt::format("{} on {} of {}: {:.0f} to 1", s.words(heavy->mass(), rig::Dimension::mass), light->name,
                               s.words(light->mass(), rig::Dimension::mass), heavy->mass() / light->mass());
  cause.weight = 0.4;
  cause.on = {heavy->id, light->id};
  cause.remedies.push_back(
      {fmt::format("Give {} nine tenths of its mass", heavy->name),
       [id = heavy->id, mass = 0.9 * heavy->mass()](rig::Rig& r) { r.part(id)->heft = rig::Mass{mass}; },
       std::nan("")});
  cause.remedies.push_back(finerSteps(s, 2));
  found.push_back(std::move(cause));
}

// A spring too fast for the substep.
void findStiffness(const Scene& s, std::vector<Cause>& found) {
  for (int k = 0; k < axesOf(s.joint.type).all(); ++k) {
    const auto response = springResponse(s.rig, s.joint.id, k);
    if (!response || response->frequency * s.substep() < 0.1) continue;
    Cause cause;
    cause.text = "Its spring swings faster than the steps can follow";
    cause.evidence = fmt::format("{}, {:.2g} substeps a swing", s.words(response->frequency, rig::Dimension::frequency),
                                 1 / (response->frequency * s.substep()));
    cause.weight = 0.7;
    cause.on = {s.joint.id};
    for (const int factor : {2, 4}) cause.remedies.push_back(finerSteps(s, factor));
    found.push_back(std::move(cause));
  }
}

// Something moved further in a substep than it is wide.
void findSpeed(const Scene& s, std::vector<Cause>& found) {
  double most = 0;
  const rig::Part* fastest = nullptr;
  double speed = 0;
  const std::set<Id> all = rig::assemblyOf(s.rig, {s.joint.id});
  for (std::size_t p = 0; p < s.rig.parts.size(); ++p) {
    const rig::Part& part = s.rig.parts[p];
    if (!all.count(part.id) || part.role != Role::dynamic) continue;
    const Aabb box = boundsOf(part.shape, {});
    const double width = (box.high - box.low).minCoeff();
    const double v = s.recording.frame(s.worst).parts[p].velocity.norm();
    if (v * s.substep() / width > most) most = v * s.substep() / width, fastest = &part, speed = v;
  }
  if (most < 0.5) return;
  Cause cause;
  cause.text = fmt::format("{} moves by much of its own width in one substep", fastest->name);
  cause.evidence = fmt::format("{} at {}: {:.0f} % of its width", s.words(speed, rig::Dimension::speed),
                               s.seconds(s.trouble.at), 100 * most);
  cause.weight = 0.5;
  cause.on = {fastest->id};
  for (const int factor : {2, 4}) cause.remedies.push_back(finerSteps(s, factor));
  found.push_back(std::move(cause));
}

// The joint is in a loop: several joints share what one could carry.
void findRedundancy(const Scene& s, std::vector<Cause>& found) {
  rig::Rig without = s.rig;
  std::erase_if(without.joints, [&](const rig::Joint& j) { return j.id == s.joint.id; });
  const std::vector<Id> ends = movingPartsOf(s);
  const auto isHeld = [&](const std::set<Id>& ids) {
    return std::any_of(without.joints.begin(), without.joints.end(), [&](const rig::Joint& j) {
      const auto stands = [&](Id part) { return part == rig::kNone || without.part(part)->role != Role::dynamic; };
      return ids.count(j.id) && (stands(j.a.part) || stands(j.b.part));
    });
  };
  bool loop = false;
  if (ends.size() == 2)
    loop = rig::assemblyOf(without, {ends[0]}).count(ends[1]) > 0;
  else if (ends.size() == 1)
    loop = isHeld(rig::assemblyOf(without, {ends[0]}));
  if (!loop) return;
  Cause cause;
  cause.text = "It is part of a loop: other joints hold the same parts, and each takes a share";
  cause.evidence = "its two parts hang together without it";
  cause.weight = 0.3;
  cause.on = {s.joint.id};
  for (const double compliance : {1e-8, 1e-6})
    cause.remedies.push_back({fmt::format("Let it yield by {:g} m/N", compliance),
                              [id = s.joint.id, compliance](rig::Rig& r) { r.joint(id)->compliance = compliance; },
                              std::nan("")});
  found.push_back(std::move(cause));
}

// A cue that came just before the worst moment.
void findHandOver(const Scene& s, std::vector<Cause>& found) {
  const auto samples = s.recording.frame(s.recording.indexAt(s.trouble.at)).cues;
  for (std::size_t i = 0; i < s.rig.cues.size(); ++i) {
    const rig::Cue& cue = s.rig.cues[i];
    const double earlier = s.trouble.at - samples[i].begunAt;
    if (samples[i].begunAt < 0 || earlier > 0.25 + cue.lasts) continue;
    const bool strikes = cue.act == Act::impulse || cue.act == Act::push || cue.act == Act::gust;
    const bool changes = cue.act == Act::role || cue.act == Act::axis || cue.act == Act::make;
    if (!strikes && !changes) continue;
    Cause cause;
    cause.text = strikes ? "A cue struck just before: " : "A cue changed what moves it just before: ";
    cause.text += rig::textOf(cue, s.rig);
    cause.evidence = fmt::format("at {}, {:.0f} ms earlier; it put in {}", s.seconds(samples[i].begunAt), 1e3 * earlier,
                                 rig::formatQuantity(samples[i].energy, rig::Dimension::energy));
    cause.weight = 0.95;
    cause.on = {cue.id};
    const auto remedy = [&, id = cue.id](const char* name, const std::function<void(rig::Cue&)>& change) {
      cause.remedies.push_back({name, [id, change](rig::Rig& r) { change(*r.cue(id)); }, std::nan("")});
    };
    if (strikes) remedy("Strike half as hard", [](rig::Cue& c) { c.vector /= 2; });
    if (changes && cue.lasts < 0.5) remedy("Take half a second over it", [](rig::Cue& c) { c.lasts = 0.5; });
    found.push_back(std::move(cause));
  }
}

// What was wrong at rest already, about this joint or its parts: with the remedies of Advice.
void findAdvice(const Scene& s, std::vector<Cause>& found) {
  const std::set<Id> about{s.joint.id, s.joint.a.part, s.joint.b.part};
  for (const rig::Finding& f : rig::adviceFor(s.rig)) {
    if (std::none_of(f.on.begin(), f.on.end(), [&](Id id) { return id != rig::kNone && about.count(id); })) continue;
    Cause cause;
    cause.text = "Before the run already: " + f.text;
    cause.evidence = f.evidence;
    cause.weight = 0.8;
    cause.on = f.on;
    cause.remedies.push_back({f.remedy, f.mend, std::nan("")});
    found.push_back(std::move(cause));
  }
}

}  // namespace

Trouble troubleOf(const Recording& recording, rig::Id joint) {
  constexpr double kApart = 1e-5;  // m
  Trouble trouble;
  trouble.joint = joint;
  Reading force{Reading::What::force, joint, 0}, apart{Reading::What::separation, joint, 0};
  const rig::Joint& j = *recording.rig().joint(joint);
  const std::vector<double> gaps = seriesOf(recording, apart);
  const bool bySeparation = !j.breakForce && !j.breakTorque && *std::max_element(gaps.begin(), gaps.end()) > kApart;
  trouble.measure = {Outcome::Of::peak, bySeparation ? apart : force, 0};
  const std::vector<double> series = seriesOf(recording, trouble.measure.reading);
  const auto worst = std::max_element(series.begin(), series.end());
  trouble.before = *worst;
  trouble.at = recording.frame(static_cast<std::size_t>(worst - series.begin())).time;
  return trouble;
}

std::vector<Cause> causesOf(const Recording& recording, const Trouble& trouble) {
  const Scene scene{recording, trouble};
  std::vector<Cause> found;
  for (const auto find : {findStop, findHandOver, findJerk, findAdvice, findStiffness, findMotorAtCap, findSpeed,
                          findMassRatio, findRedundancy})
    find(scene, found);
  std::stable_sort(found.begin(), found.end(), [](const Cause& a, const Cause& b) { return a.weight > b.weight; });
  return found;
}

double gainOf(const Remedy& remedy, const Trouble& trouble) {
  return trouble.before > 0 ? 1 - remedy.after / trouble.before : 0;
}

namespace {

std::vector<double> peakLoads(const Recording& recording) {
  std::vector<double> peaks(recording.rig().joints.size(), 0);
  for (std::size_t i = 0; i < recording.size(); ++i)
    for (std::size_t j = 0; j < peaks.size(); ++j)
      peaks[j] = std::max(peaks[j], double(recording.frame(i).joints[j].force));
  return peaks;
}

// The joint whose load grew most, if by much: what one joint is spared, another may have to carry.
std::string priceOf(const Recording& before, const Recording& after, Id spared) {
  constexpr double kMuch = 1.2;
  const std::vector<double> old = peakLoads(before);
  const std::vector<double> now = peakLoads(after);
  const double largest = *std::max_element(old.begin(), old.end());
  std::size_t worst = old.size();
  for (std::size_t j = 0; j < std::min(old.size(), now.size()); ++j) {
    if (before.rig().joints[j].id == spared || now[j] < kMuch * old[j] || now[j] < 0.1 * largest) continue;
    if (worst == old.size() || now[j] - old[j] > now[worst] - old[worst]) worst = j;
  }
  if (worst == old.size()) return {};
  const auto words = [](double v) { return rig::formatQuantity(v, rig::Dimension::force); };
  return fmt::format("{} then carries {}, not {}", before.rig().joints[worst].name, words(now[worst]),
                     words(old[worst]));
}

}  // namespace

void tryRemedies(const Recording& recording, const Trouble& trouble, std::vector<Cause>& causes,
                 const std::atomic<bool>* stop, const std::function<void(std::size_t, std::size_t)>& onTried) {
  const auto stopped = [&] { return stop && stop->load(); };
  std::size_t all = 0, tried = 0;
  for (const Cause& c : causes) all += c.remedies.size();
  for (Cause& cause : causes) {
    for (Remedy& remedy : cause.remedies) {
      if (stopped()) break;
      try {
        auto changed = std::make_shared<rig::Rig>(recording.rig());
        remedy.apply(*changed);
        if (!changed->joint(trouble.joint)) throw std::invalid_argument("it takes the joint away");
        const auto again = record(changed, stop);
        if (stopped()) break;  // a run that was broken off proves nothing
        remedy.after = valueOf(*again, trouble.measure);
        remedy.price = priceOf(recording, *again, trouble.joint);
      } catch (const std::exception& e) {
        remedy.fault = e.what();
      }
      if (onTried) onTried(++tried, all);
    }
    constexpr double kWorthTelling = 0.01;
    std::erase_if(cause.remedies, [&](const Remedy& r) { return !(gainOf(r, trouble) >= kWorthTelling); });
    std::stable_sort(cause.remedies.begin(), cause.remedies.end(), [](const Remedy& x, const Remedy& y) {
      return std::pair(!x.price.empty(), x.after) < std::pair(!y.price.empty(), y.after);
    });
  }
}

}  // namespace calm::run

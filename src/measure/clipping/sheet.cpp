// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/clipping/clipping.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kCoarseDb = 1;  // step from which a finer staircase is proposed

// What one channel does when it gets too loud.
class ClippingSheet {
 public:
  ClippingSheet(SheetBuilder& sheet, const ClippingResult& r, const ChannelClipping& c, int channel)
      : sheet_(sheet),
        r_(r),
        c_(c),
        channel_(channel),
        levels_(c.frames.front().in_dbfs.has_value()),
        common_({{"frequency_hz", r.frequency_hz},
                 {"thd_percent", r.options.thd_percent},
                 {"compression_db", r.options.compression_db},
                 {"sample_rate_hz", r.sample_rate_hz}}) {}

  void write() {
    if (c_.gain_db) add("gain_db", *c_.gain_db, {{"at", std::string("low levels")}}, c_.gain_uncertainty_db);
    if (!c_.point)
      write_none();
    else if (c_.point->in_dbfs)
      write_level(*c_.point, *c_.point->in_dbfs);
    else
      write_moment(*c_.point);
    add("ceiling_dbfs", c_.ceiling_dbfs, {{"means", std::string("highest sample")}});
    draw();
  }

 private:
  void say(Severity severity, FindingCode code, std::string text) {
    sheet_.say(severity, code, std::move(text), channel_);
  }
  void add(const char* name, std::optional<double> value, Conditions more = {},
           std::optional<double> uncertainty = std::nullopt) {
    more.insert(more.end(), common_.begin(), common_.end());
    Reading& added = sheet_.add(name, channel_, value, std::move(more));
    if (value) added.uncertainty = uncertainty;
  }

  [[nodiscard]] std::string reason(const ClippingPoint& p) const {
    return p.by_gain ? fmt::format("the gain falls by {:g} dB", r_.options.compression_db)
                     : fmt::format("THD passes {:g} %", r_.options.thd_percent);
  }

  void write_none() {
    add(levels_ ? "clipping_point_dbfs" : "clipping_at_s", std::nullopt);
    say(Severity::note, FindingCode::nothing_found,
        levels_
            ? fmt::format(
                  "it does not clip: THD stays below {:g} % and the gain within {:g} dB up to {:.1f} dBFS",
                  r_.options.thd_percent, r_.options.compression_db, *c_.frames.back().in_dbfs)
            : fmt::format("THD never stays above {:g} %: it does not clip", r_.options.thd_percent));
  }

  void write_level(const ClippingPoint& p, double in_dbfs) {
    const double headroom = in_dbfs - r_.options.alignment_dbfs;
    add("clipping_point_dbfs", in_dbfs, {{"by", reason(p)}, {"within_db", std::round(1e4 * p.step_db) / 1e4}},
        p.uncertainty_db);
    add("clipping_output_dbfs", p.out_dbfs, {}, p.uncertainty_db);
    add("headroom_db", headroom, {{"above_dbfs", r_.options.alignment_dbfs}}, p.uncertainty_db);
    std::string text = fmt::format(
        "clips at {:.2f} dBFS in ({:.2f} dBFS out), where {}: {:.1f} dB above the alignment level of {:g} "
        "dBFS",
        in_dbfs, p.out_dbfs, reason(p), headroom, r_.options.alignment_dbfs);
    if (c_.shape == ClippingShape::hard)
      text += fmt::format("; it is hard: THD rises thirtyfold within {:.1f} dB", c_.span_db);
    if (c_.shape == ClippingShape::soft)
      text += fmt::format("; it is soft: THD takes {:.1f} dB and more to rise thirtyfold", c_.span_db);
    if (in_dbfs == c_.frames.front().in_dbfs)
      say(Severity::warning, FindingCode::limited_range,
          fmt::format("it clips at the lowest level already ({:.1f} dBFS): begin lower", in_dbfs));
    say(Severity::note, FindingCode::result, text);
    if (p.step_db > kCoarseDb)
      say(Severity::note, FindingCode::too_coarse,
          fmt::format(
              "known to the step of {:.3g} dB only: smaller steps around {:.0f} dBFS, or a ramp, tell more",
              p.step_db, in_dbfs));
  }

  void write_moment(const ClippingPoint& p) {
    add("clipping_at_s", p.time_s, {}, p.uncertainty_s);
    add("clipping_output_dbfs", p.out_dbfs, {}, p.uncertainty_db);
    say(Severity::note, FindingCode::result,
        fmt::format("begins to clip at {:.2f} s, where {} at {:.2f} dBFS out", p.time_s, reason(p),
                    p.out_dbfs));
  }

  void draw() {
    Curve thd{"THD", channel_, levels_ ? "dBFS" : "s", "dB", {}, {}},
        gain{"gain", channel_, "dBFS", "dB", {}, {}}, level{"level", channel_, "s", "dBFS", {}, {}};
    for (const ClippingFrame& f : c_.frames) {
      if (f.thd_ratio) {
        thd.x.push_back(levels_ ? *f.in_dbfs : f.time_s);
        thd.y.push_back(db_from_ratio(*f.thd_ratio));
      }
      if (levels_) {
        gain.x.push_back(*f.in_dbfs);
        gain.y.push_back(f.out_dbfs - *f.in_dbfs);
      }
      level.x.push_back(f.time_s);
      level.y.push_back(f.out_dbfs);
    }
    for (Curve* curve : {&thd, &gain})
      if (!curve->x.empty()) sheet_.draw(std::move(*curve));
    sheet_.draw(std::move(level));
  }

  SheetBuilder& sheet_;
  const ClippingResult& r_;
  const ChannelClipping& c_;
  int channel_;
  bool levels_;
  Conditions common_;
};

}  // namespace

Sheet clipping_sheet(const ClippingResult& r, const CaptureInfo& capture) {
  SheetBuilder sheet(clipping_readings(), capture);
  for (std::size_t i = 0; i < r.channels.size(); ++i) {
    const ChannelClipping& c = r.channels[i];
    const int channel = static_cast<int>(i);
    if (c.measured)
      ClippingSheet(sheet, r, c, channel).write();
    else
      sheet.say(Severity::warning, FindingCode::not_measured, "silent: not measured", channel);
  }
  return sheet.finish();
}

}  // namespace wavicon

// SPDX-License-Identifier: MIT
// A measurement of your own in the list, with what it owes: the longest stretch above a level.

#include <iostream>

#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace {

using namespace wavicon;

const ReadingTable& readings() {
  static const ReadingTable kTable = {"loud",
                                      {{.name = "loud_s",
                                        .unit = "s",
                                        .words = "longest loud stretch",
                                        .definition = "Longest run of samples above the level.",
                                        .conditions = {"above"}}}};
  return kTable;
}

class Loud : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {
        {.key = "above", .target = &above_, .sentence = "amplitude, full scale = 1", .range = Range{0, 1}}};
  }
  std::vector<Sheet> measure(const MeasureRequest&, const JudgedCapture& capture, std::size_t) override {
    SheetBuilder sheet(readings(), capture.info());
    std::int64_t run = 0, longest = 0;
    for (const double x : read_channel(capture.source(), 0, 0, capture.source().frames())) {
      run = x > above_ ? run + 1 : 0;
      longest = run > longest ? run : longest;
    }
    sheet.add("loud_s", 0, static_cast<double>(longest) / capture.sample_rate_hz(), {{"above", above_}});
    return {sheet.finish()};
  }

 private:
  double above_ = 0.5;
};

}  // namespace

int main() {
  MeasurementList list = measurements();
  list.push_back({.name = "loud",
                  .question = "how long is it loud?",
                  .tables = {readings},
                  .headline = {"loud_s"},
                  .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Loud>(); }});
  Audio audio(48000, 1, 48000);
  for (std::size_t n = 10000; n < 22000; ++n) audio.channel(0)[n] = 0.6 + 1e-6 * static_cast<double>(n % 7);
  const auto measurement = find_measurement(list, "loud")->make();
  const auto capture = judge(audio, SampleFormat::float64, {}, policy_of(list.back()));
  std::cout << list.size() << " measurements, loud for "
            << *measured(*measurement, {}, capture)[0].readings[0].value << " s\n";
}

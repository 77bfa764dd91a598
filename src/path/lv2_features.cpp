// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include "lv2_features.hpp"

#include <lv2/buf-size/buf-size.h>
#include <lv2/parameters/parameters.h>
#include <lv2/state/state.h>

#include <bit>

namespace wavicon::path_detail {
namespace {

std::vector<std::uint8_t> bytes_of(std::uint32_t size, const void* data) {
  const auto* bytes = static_cast<const std::uint8_t*>(data);
  return {bytes, bytes + size};
}

}  // namespace

bool meets_feature(const std::string& uri, int block_frames) {
  if (uri == LV2_BUF_SIZE__powerOf2BlockLength)
    return std::has_single_bit(static_cast<unsigned>(block_frames));
  for (const char* met :
       {LV2_URID__map, LV2_URID__unmap, LV2_OPTIONS__options, LV2_BUF_SIZE__boundedBlockLength,
        LV2_BUF_SIZE__fixedBlockLength, LV2_WORKER__schedule, LV2_CORE__inPlaceBroken,
        LV2_CORE__hardRTCapable, LV2_STATE__loadDefaultState, LV2_STATE__threadSafeRestore})
    if (uri == met) return true;
  return false;
}

UridMap::UridMap() {
  map_ = {this,
          [](LV2_URID_Map_Handle self, const char* uri) { return static_cast<UridMap*>(self)->map(uri); }};
  unmap_ = {this, [](LV2_URID_Unmap_Handle self, LV2_URID urid) {
              return static_cast<UridMap*>(self)->unmap(urid);
            }};
  map_feature_ = {LV2_URID__map, &map_};
  unmap_feature_ = {LV2_URID__unmap, &unmap_};
}

LV2_URID UridMap::map(const char* uri) {
  const auto [entry, added] = numbers_.try_emplace(uri, static_cast<LV2_URID>(uris_.size() + 1));
  if (added) uris_.push_back(entry->first.c_str());
  return entry->second;
}

const char* UridMap::unmap(LV2_URID urid) const {
  return urid >= 1 && urid <= uris_.size() ? uris_[urid - 1] : nullptr;
}

Worker::Worker() {
  schedule_ = {this, &Worker::schedule};
  feature_ = {LV2_WORKER__schedule, &schedule_};
}

void Worker::attach(LV2_Handle plugin, const LV2_Worker_Interface* interface) {
  plugin_ = plugin;
  interface_ = interface;
  for (const auto& work : early_) schedule(this, static_cast<std::uint32_t>(work.size()), work.data());
  early_.clear();
}

LV2_Worker_Status Worker::schedule(LV2_Worker_Schedule_Handle self, std::uint32_t size, const void* data) {
  auto& worker = *static_cast<Worker*>(self);
  if (worker.plugin_ == nullptr) {
    worker.early_.push_back(bytes_of(size, data));
    return LV2_WORKER_SUCCESS;
  }
  if (worker.interface_ == nullptr) return LV2_WORKER_ERR_UNKNOWN;
  return worker.interface_->work(worker.plugin_, &Worker::respond, self, size, data);
}

LV2_Worker_Status Worker::respond(LV2_Worker_Respond_Handle self, std::uint32_t size, const void* data) {
  static_cast<Worker*>(self)->answers_.push_back(bytes_of(size, data));
  return LV2_WORKER_SUCCESS;
}

void Worker::deliver() {
  if (interface_ == nullptr) return;
  const auto answers = std::move(answers_);
  answers_.clear();
  for (const auto& answer : answers)
    if (interface_->work_response != nullptr)
      interface_->work_response(plugin_, static_cast<std::uint32_t>(answer.size()), answer.data());
  if (interface_->end_run != nullptr) interface_->end_run(plugin_);
}

Features::Features(UridMap& urids, double sample_rate_hz, int block_frames)
    : block_frames_(block_frames),
      sequence_bytes_(kSequenceBytes),
      sample_rate_hz_(static_cast<float>(sample_rate_hz)) {
  const LV2_URID whole = urids.map(LV2_ATOM__Int), real = urids.map(LV2_ATOM__Float);
  auto whole_option = [&](const char* key, const std::int32_t& value) {
    return LV2_Options_Option{LV2_OPTIONS_INSTANCE, 0, urids.map(key), sizeof value, whole, &value};
  };
  options_ = {whole_option(LV2_BUF_SIZE__minBlockLength, block_frames_),
              whole_option(LV2_BUF_SIZE__maxBlockLength, block_frames_),
              whole_option(LV2_BUF_SIZE__nominalBlockLength, block_frames_),
              whole_option(LV2_BUF_SIZE__sequenceSize, sequence_bytes_),
              {LV2_OPTIONS_INSTANCE, 0, urids.map(LV2_PARAMETERS__sampleRate), sizeof sample_rate_hz_, real,
               &sample_rate_hz_},
              {LV2_OPTIONS_INSTANCE, 0, 0, 0, 0, nullptr}};
  options_feature_ = {LV2_OPTIONS__options, options_.data()};
  bounded_ = {LV2_BUF_SIZE__boundedBlockLength, nullptr};
  fixed_ = {LV2_BUF_SIZE__fixedBlockLength, nullptr};
  power_of_two_ = {LV2_BUF_SIZE__powerOf2BlockLength, nullptr};
  default_state_ = {LV2_STATE__loadDefaultState, nullptr};
  restore_ = {LV2_STATE__threadSafeRestore, nullptr};
  list_ = {urids.map_feature(), urids.unmap_feature(), &options_feature_, &bounded_, &fixed_,
           worker_.feature(),   &default_state_,       &restore_};
  if (std::has_single_bit(static_cast<unsigned>(block_frames))) list_.push_back(&power_of_two_);
  list_.push_back(nullptr);
}

}  // namespace wavicon::path_detail
#endif

#include "wavicon/audio/transform.hpp"

#include <fftw3.h>

#include <algorithm>
#include <array>
#include <bit>
#include <mutex>
#include <new>

#include "audio/wide.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

// FFTW's planner shares state between all plans; this is the one place that guards it.
std::mutex& planner_mutex() {
  static std::mutex mutex;
  return mutex;
}

struct FftwFree {
  void operator()(void* memory) const noexcept { fftw_free(memory); }
};

}  // namespace

std::size_t fast_transform_length(std::size_t least) {
  // Planning a power of two takes a third of the time of planning its neighbours, which outweighs the longer
  // run once.
  constexpr std::size_t kPowersUpTo = std::size_t{1} << 18;
  if (least <= kPowersUpTo) return std::bit_ceil(std::max<std::size_t>(2, least));
  std::size_t length = least + (least % 2);
  for (;; length += 2) {
    std::size_t rest = length;
    for (const std::size_t factor : {2, 3, 5, 7})
      while (rest % factor == 0) rest /= factor;
    if (rest == 1) return length;
  }
}

struct RealTransform::Impl {
  std::size_t length = 0;
  std::unique_ptr<double, FftwFree> input;
  std::unique_ptr<fftw_complex, FftwFree> bins;
  fftw_plan plan = nullptr;
  fftw_plan back = nullptr;

  explicit Impl(std::size_t n) : length(n), input(fftw_alloc_real(n)), bins(fftw_alloc_complex(n / 2 + 1)) {
    if (!input || !bins) throw std::bad_alloc();
    const std::lock_guard lock(planner_mutex());
    plan = fftw_plan_dft_r2c_1d(static_cast<int>(n), input.get(), bins.get(),
                                FFTW_ESTIMATE | FFTW_DESTROY_INPUT);
    if (plan == nullptr) throw std::bad_alloc();
  }
  ~Impl() {
    const std::lock_guard lock(planner_mutex());
    fftw_destroy_plan(plan);
    if (back != nullptr) fftw_destroy_plan(back);
  }
  Impl(const Impl&) = delete;
  Impl& operator=(const Impl&) = delete;
};

RealTransform::RealTransform(std::size_t length) {
  if (length < 1 || length > 0x40000000)
    throw Error(ErrorCode::bad_argument, "transform length is not within 1 to 2^30");
  impl_ = std::make_unique<Impl>(length);
}
RealTransform::~RealTransform() = default;
RealTransform::RealTransform(RealTransform&&) noexcept = default;
RealTransform& RealTransform::operator=(RealTransform&&) noexcept = default;

std::size_t RealTransform::length() const noexcept { return impl_->length; }
std::span<double> RealTransform::input() noexcept { return {impl_->input.get(), impl_->length}; }
std::span<const std::complex<double>> RealTransform::bins() const noexcept {
  // fftw_complex and std::complex<double> share their layout by FFTW's contract.
  return {reinterpret_cast<const std::complex<double>*>(impl_->bins.get()), impl_->length / 2 + 1};
}
void RealTransform::execute() noexcept { fftw_execute(impl_->plan); }

std::span<const double> RealTransform::invert(std::span<const std::complex<double>> bins) {
  if (impl_->back == nullptr) {
    const std::lock_guard lock(planner_mutex());
    impl_->back = fftw_plan_dft_c2r_1d(static_cast<int>(impl_->length), impl_->bins.get(), impl_->input.get(),
                                       FFTW_ESTIMATE | FFTW_DESTROY_INPUT);
    if (impl_->back == nullptr) throw std::bad_alloc();
  }
  std::copy(bins.begin(), bins.end(), reinterpret_cast<std::complex<double>*>(impl_->bins.get()));
  fftw_execute(impl_->back);
  const double scale = 1.0 / static_cast<double>(impl_->length);
  for (double& sample : input()) sample *= scale;
  return input();
}

RealTransform& RealTransforms::get(std::size_t length) {
  return transforms_.try_emplace(length, length).first->second;
}

namespace {

// Samples go through in groups that share one table of e^{-2πi·f·j}; only the phase of each group's start is
// computed anew, exactly, so that no rounding builds up along the run.
constexpr std::size_t kGroup = 64;

struct RotorTable {
  std::array<double, kGroup> re{};
  std::array<double, kGroup> im{};
  explicit RotorTable(Phase step) {
    for (std::size_t j = 0; j < kGroup; ++j) {
      re[j] = cosine(step * j);
      im[j] = -sine(step * j);
    }
  }
};

// Σ x[j]·table[j] over a whole group, in four lanes of fixed order.
WAVICON_WIDE void group_sum(const double* x, const double* re_table, const double* im_table, double* result) {
  double re[4] = {}, im[4] = {};
  for (std::size_t j = 0; j < kGroup; j += 4)
    for (std::size_t lane = 0; lane < 4; ++lane) {
      re[lane] += x[j + lane] * re_table[j + lane];
      im[lane] += x[j + lane] * im_table[j + lane];
    }
  result[0] = (re[0] + re[1]) + (re[2] + re[3]);
  result[1] = (im[0] + im[1]) + (im[2] + im[3]);
}

std::complex<double> rotor(Phase phase) { return {cosine(phase), -sine(phase)}; }

}  // namespace

std::complex<double> tone_sum(std::span<const double> samples, Phase step) {
  const RotorTable table(step);
  std::complex<double> total = 0;
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    const std::size_t count = std::min(kGroup, samples.size() - start);
    const double* x = samples.data() + start;
    std::array<double, kGroup> last;
    if (count < kGroup) {
      last.fill(0.0);
      std::copy(x, x + count, last.begin());
      x = last.data();
    }
    double sum[2];
    group_sum(x, table.re.data(), table.im.data(), sum);
    total += std::complex(sum[0], sum[1]) * rotor(step * start);
  }
  return total;
}

ToneSums tone_sums(std::span<const double> samples, Phase step) {
  const RotorTable table(step);
  ToneSums total{};
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    const std::size_t count = std::min(kGroup, samples.size() - start);
    std::complex<double> s0 = 0, s1 = 0, s2 = 0;
    for (std::size_t j = 0; j < count; ++j) {
      const double n = static_cast<double>(j);
      const std::complex<double> term(samples[start + j] * table.re[j], samples[start + j] * table.im[j]);
      s0 += term;
      s1 += n * term;
      s2 += n * n * term;
    }
    const std::complex<double> turn = rotor(step * start);
    const double a = static_cast<double>(start);
    total.zeroth += turn * s0;
    total.first += turn * (s1 + a * s0);
    total.second += turn * (s2 + 2.0 * a * s1 + a * a * s0);
  }
  return total;
}

void add_tone(std::span<double> samples, Phase step, std::complex<double> amplitude) {
  const RotorTable table(step);
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    const std::size_t count = std::min(kGroup, samples.size() - start);
    // Re(c·e^{iφ}) = Re(c)·cos φ - Im(c)·sin φ, and the table holds -sin.
    const std::complex<double> turned = amplitude * std::conj(rotor(step * start));
    for (std::size_t j = 0; j < count; ++j)
      samples[start + j] += turned.real() * table.re[j] + turned.imag() * table.im[j];
  }
}

}  // namespace wavicon

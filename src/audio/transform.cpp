// SPDX-License-Identifier: MIT
#include "wavicon/audio/transform.hpp"

#include <fftw3.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <mutex>
#include <new>
#include <vector>

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

// Four complex numbers side by side, each with the roundings of one alone.
using Four = double __attribute__((vector_size(64)));
constexpr std::size_t kSideBySide = 4;

inline void load(Four& four, const double* from) { std::memcpy(&four, from, sizeof four); }
inline void store(double* to, const Four& four) { std::memcpy(to, &four, sizeof four); }

// Of four bins and their partners: sums with the partners' conjugates, and what they are apart.
struct Partners {
  Four sum, apart_re, apart_im;  // the last two twice each, for either part
  Partners(const double* here_from, const double* there_from) {
    constexpr Four kConjugate{1, -1, 1, -1, 1, -1, 1, -1};
    Four here, there;
    load(here, here_from);
    load(there, there_from);
    there = __builtin_shufflevector(there, there, 6, 7, 4, 5, 2, 3, 0, 1) * kConjugate;
    sum = here + there;
    const Four apart = here - there;
    apart_re = __builtin_shufflevector(apart, apart, 0, 0, 2, 2, 4, 4, 6, 6);
    apart_im = __builtin_shufflevector(apart, apart, 1, 1, 3, 3, 5, 5, 7, 7);
  }
};

inline void load_turns(Four& turn, Four& swapped, const double* from) {
  load(turn, from);
  swapped = __builtin_shufflevector(turn, turn, 1, 0, 3, 2, 5, 4, 7, 6);
}

// Products are added up with their signs in them: a product of complex numbers as one writes it is made one
// instruction without a rounding in between by GCC 12, whatever -ffp-contract says.

// Bins of real samples and their partners, from the transform of the even and odd samples as one complex
// signal: bin k and bin half - k come of the same two numbers. Each twice as high as it is.
struct BinAndPartner {
  double re, im, partner_re, partner_im;
  BinAndPartner(const double* here, const double* there, const double* turn) {
    const double sum_re = here[0] + there[0], sum_im = here[1] - there[1], apart_re = here[0] - there[0],
                 apart_im = here[1] + there[1];
    const double back_re = turn[1] * apart_im + -turn[0] * apart_re,
                 turned_im = turn[0] * apart_im + turn[1] * apart_re;
    re = sum_re + turned_im;
    im = sum_im + back_re;
    partner_re = sum_re - turned_im;
    partner_im = back_re - sum_im;
  }
};

WAVICON_WITHIN_WIDE void turn_apart(Four& result, const Partners& of, const double* turns) {
  constexpr Four kBack{1, -1, 1, -1, 1, -1, 1, -1};
  Four turn, swapped;
  load_turns(turn, swapped, turns);
  result = turn * of.apart_im + swapped * kBack * of.apart_re;
}

// Bins 1 … half - 1; pairs of doubles.
WAVICON_WIDE void take_apart(const double* __restrict z, const double* __restrict turns,
                             double* __restrict bins, std::size_t half) {
  constexpr Four kConjugate{1, -1, 1, -1, 1, -1, 1, -1};
  std::size_t k = 1;
  for (; 2 * (k + kSideBySide - 1) < half; k += kSideBySide) {
    const std::size_t partner = half - k - (kSideBySide - 1);
    const Partners of(z + 2 * k, z + 2 * partner);
    Four turn;
    turn_apart(turn, of, turns + 2 * k);
    store(bins + 2 * k, 0.5 * (of.sum + turn));
    const Four there = 0.5 * (of.sum * kConjugate + -kConjugate * turn);
    store(bins + 2 * partner, __builtin_shufflevector(there, there, 6, 7, 4, 5, 2, 3, 0, 1));
  }
  for (; 2 * k <= half; ++k) {
    const BinAndPartner both(z + 2 * k, z + 2 * (half - k), turns + 2 * k);
    bins[2 * (half - k)] = 0.5 * both.partner_re;
    bins[2 * (half - k) + 1] = 0.5 * both.partner_im;
    bins[2 * k] = 0.5 * both.re;
    bins[2 * k + 1] = 0.5 * both.im;
  }
}

// Four numbers' squared magnitudes.
using FourSquares = double __attribute__((vector_size(32)));
WAVICON_WITHIN_WIDE void square(FourSquares& result, const Four& numbers) {
  const Four squares = numbers * numbers;
  result = __builtin_shufflevector(squares, squares, 0, 2, 4, 6) +
           __builtin_shufflevector(squares, squares, 1, 3, 5, 7);
}

// scale·|bin|² of the same bins.
WAVICON_WIDE void take_squares_apart(const double* __restrict z, const double* __restrict turns, double scale,
                                     double* __restrict squares, std::size_t half) {
  std::size_t k = 1;
  for (; 2 * (k + kSideBySide - 1) < half; k += kSideBySide) {
    const std::size_t partner = half - k - (kSideBySide - 1);
    const Partners of(z + 2 * k, z + 2 * partner);
    Four turn;
    turn_apart(turn, of, turns + 2 * k);
    FourSquares here, there;
    square(here, 0.5 * (of.sum + turn));
    square(there, 0.5 * (of.sum - turn));
    here *= scale;
    there = __builtin_shufflevector(there, there, 3, 2, 1, 0) * scale;
    std::memcpy(squares + k, &here, sizeof here);
    std::memcpy(squares + partner, &there, sizeof there);
  }
  for (; 2 * k <= half; ++k) {
    const BinAndPartner both(z + 2 * k, z + 2 * (half - k), turns + 2 * k);
    const auto square = [&](double re, double im) {
      return scale * (0.5 * re * (0.5 * re) + 0.5 * im * (0.5 * im));
    };
    squares[half - k] = square(both.partner_re, both.partner_im);
    squares[k] = square(both.re, both.im);
  }
}

// The way back: pairs 1 … half - 1 from bins.
WAVICON_WIDE void join(const double* __restrict bins, const double* __restrict turns, double* __restrict z,
                       std::size_t half) {
  constexpr Four kBack{-1, 1, -1, 1, -1, 1, -1, 1};
  std::size_t k = 1;
  for (; k + kSideBySide <= half; k += kSideBySide) {
    const Partners of(bins + 2 * k, bins + 2 * (half - k - (kSideBySide - 1)));
    Four turn, swapped;
    load_turns(turn, swapped, turns + 2 * k);
    store(z + 2 * k, of.sum + (swapped * of.apart_re + turn * kBack * of.apart_im));
  }
  for (; k < half; ++k) {
    const double* here = bins + 2 * k;
    const double* there = bins + 2 * (half - k);
    const double sum_re = here[0] + there[0], sum_im = here[1] - there[1], apart_re = here[0] - there[0],
                 apart_im = here[1] + there[1], turn_re = turns[2 * k], turn_im = turns[2 * k + 1];
    const double turned_re = turn_re * apart_re + turn_im * apart_im,
                 back_im = turn_im * apart_re + -turn_re * apart_im;
    z[2 * k] = sum_re + back_im;
    z[2 * k + 1] = sum_im + turned_re;
  }
}

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

// Even lengths go through a complex transform of half the length: even samples as real parts, odd ones as
// imaginary parts, taken apart afterwards. FFTW plans that in a tenth of the time of its own real transform
// and runs it as fast. Odd lengths are left to FFTW.
struct RealTransform::Impl {
  std::size_t length = 0;
  std::unique_ptr<double, FftwFree> input;
  std::unique_ptr<fftw_complex, FftwFree>
      work;  ///< half as many as samples; for odd lengths the bins themselves
  std::vector<std::complex<double>> bins;
  std::vector<std::complex<double>> turns;  ///< e^{-2πi·k/length}
  fftw_plan plan = nullptr;
  fftw_plan back = nullptr;

  explicit Impl(std::size_t n)
      : length(n), input(fftw_alloc_real(n + n % 2)), work(fftw_alloc_complex(n / 2 + 1)), bins(n / 2 + 1) {
    if (!input || !work) throw std::bad_alloc();
    if (even()) add_turns();
    const std::lock_guard lock(planner_mutex());
    const auto count = static_cast<int>(even() ? n / 2 : n);
    plan = even() ? fftw_plan_dft_1d(count, pairs(), work.get(), FFTW_FORWARD, kFlags)
                  : fftw_plan_dft_r2c_1d(count, input.get(), work.get(), kFlags);
    if (plan == nullptr) throw std::bad_alloc();
  }
  void add_turns() {
    constexpr std::size_t kPiece = 512;
    std::array<double, kPiece> cycles{}, sine_of{}, cosine_of{};
    std::array<Phase, kPiece> phases{};
    turns.resize(length / 2 + 1);
    for (std::size_t first = 0; first < turns.size(); first += kPiece) {
      for (std::size_t i = 0; i < kPiece; ++i)
        cycles[i] = static_cast<double>(first + i) / static_cast<double>(length);
      phases_from_cycles(cycles, phases);
      sines(phases, sine_of);
      for (Phase& phase : phases) phase += kQuarterCycle;
      sines(phases, cosine_of);
      for (std::size_t i = 0; i < std::min(kPiece, turns.size() - first); ++i)
        turns[first + i] = {cosine_of[i], -sine_of[i]};
    }
  }
  ~Impl() {
    const std::lock_guard lock(planner_mutex());
    if (plan != nullptr) fftw_destroy_plan(plan);
    if (back != nullptr) fftw_destroy_plan(back);
  }
  Impl(const Impl&) = delete;
  Impl& operator=(const Impl&) = delete;

  [[nodiscard]] bool even() const noexcept { return length % 2 == 0; }

  void execute() noexcept {
    fftw_execute(plan);
    const auto* z = values();
    if (!even()) {
      std::copy_n(z, bins.size(), bins.begin());
      return;
    }
    const std::size_t half = length / 2;
    set_ends();
    take_apart(reinterpret_cast<const double*>(z), reinterpret_cast<const double*>(turns.data()),
               reinterpret_cast<double*>(bins.data()), half);
  }

  // What belongs to 0 Hz and half the rate is its own partner.
  void set_ends() noexcept {
    const auto* z = values();
    const std::size_t half = length / 2;
    for (const std::size_t k : {std::size_t{0}, half}) {
      const std::complex<double> here = z[0], there = std::conj(z[0]);
      const std::complex<double> sum = here + there, turned = product(turns[k], here - there);
      bins[k] = {0.5 * (sum.real() + turned.imag()), 0.5 * (sum.imag() - turned.real())};
    }
  }

  double execute_squares(double scale, double* squares) noexcept {
    const auto square = [&](std::size_t k) {
      squares[k] = scale * (bins[k].real() * bins[k].real() + bins[k].imag() * bins[k].imag());
    };
    if (!even()) {
      execute();
      for (std::size_t k = 0; k < bins.size(); ++k) square(k);
      return bins[0].real();
    }
    fftw_execute(plan);
    set_ends();
    square(0);
    square(length / 2);
    take_squares_apart(reinterpret_cast<const double*>(values()),
                       reinterpret_cast<const double*>(turns.data()), scale, squares, length / 2);
    return bins[0].real();
  }

  void invert(std::span<const std::complex<double>> from) {
    if (back == nullptr) {
      const std::lock_guard lock(planner_mutex());
      const auto count = static_cast<int>(even() ? length / 2 : length);
      back = even() ? fftw_plan_dft_1d(count, work.get(), pairs(), FFTW_BACKWARD, kFlags)
                    : fftw_plan_dft_c2r_1d(count, work.get(), input.get(), kFlags);
      if (back == nullptr) throw std::bad_alloc();
    }
    auto* z = values();
    if (!even()) {
      std::copy(from.begin(), from.end(), z);
    } else {
      const std::size_t half = length / 2;
      const std::complex<double> there = std::conj(from[half]);
      const std::complex<double> sum = from[0] + there,
                                 turned = product(std::conj(turns[0]), from[0] - there);
      z[0] = {sum.real() - turned.imag(), sum.imag() + turned.real()};
      join(reinterpret_cast<const double*>(from.data()), reinterpret_cast<const double*>(turns.data()),
           reinterpret_cast<double*>(z), half);
    }
    fftw_execute(back);
  }

 private:
  static constexpr unsigned kFlags = FFTW_ESTIMATE | FFTW_DESTROY_INPUT;
  // fftw_complex, pairs of doubles and std::complex<double> share their layout by FFTW's contract.
  [[nodiscard]] fftw_complex* pairs() const noexcept { return reinterpret_cast<fftw_complex*>(input.get()); }
  [[nodiscard]] std::complex<double>* values() const noexcept {
    return reinterpret_cast<std::complex<double>*>(work.get());
  }
  // Without the checks for infinities that the operator makes.
  static std::complex<double> product(std::complex<double> a, std::complex<double> b) noexcept {
    return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
  }
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
std::span<const std::complex<double>> RealTransform::bins() const noexcept { return impl_->bins; }
void RealTransform::execute() noexcept { impl_->execute(); }

double RealTransform::execute_squares(double scale, std::span<double> squares) noexcept {
  return impl_->execute_squares(scale, squares.data());
}

void RealTransform::execute(std::span<const double> samples) noexcept {
  const auto behind = std::copy(samples.begin(), samples.end(), input().begin());
  std::fill(behind, input().end(), 0.0);
  execute();
}
std::vector<std::complex<double>> RealTransform::bins_of(std::span<const double> samples) {
  execute(samples);
  return {bins().begin(), bins().end()};
}

std::span<const double> RealTransform::invert(std::span<const std::complex<double>> bins) {
  impl_->invert(bins);
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
  RotorTable() = default;
  // The first one turned by `origin`.
  explicit RotorTable(Phase step, Phase origin = 0) {
    steady_sines(origin + kQuarterCycle, step, re);
    steady_sines(origin, step, im);
    for (double& value : im) value = -value;
  }
  [[nodiscard]] std::complex<double> operator[](std::size_t j) const { return {re[j], im[j]}; }
};

// The turns of the starts of all groups, one after the other.
class GroupTurns {
 public:
  explicit GroupTurns(Phase step) : step_(step * kGroup) {}
  std::complex<double> next() {
    if (at_ == kGroup) {
      table_ = RotorTable(step_, origin_);
      origin_ += step_ * kGroup;
      at_ = 0;
    }
    return table_[at_++];
  }

 private:
  Phase step_, origin_ = 0;
  RotorTable table_;
  std::size_t at_ = kGroup;
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

// The group of samples that starts there; the last one of a run is filled up with zeros in `room`.
const double* whole_group(std::span<const double> samples, std::size_t start,
                          std::array<double, kGroup>& room) {
  const std::size_t count = std::min(kGroup, samples.size() - start);
  if (count == kGroup) return samples.data() + start;
  room.fill(0.0);
  std::copy_n(samples.begin() + static_cast<std::ptrdiff_t>(start), count, room.begin());
  return room.data();
}

}  // namespace

std::complex<double> tone_sum(std::span<const double> samples, Phase step) {
  const RotorTable table(step);
  GroupTurns turns(step);
  std::complex<double> total = 0;
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    std::array<double, kGroup> last;
    const double* x = whole_group(samples, start, last);
    double sum[2];
    group_sum(x, table.re.data(), table.im.data(), sum);
    total += std::complex(sum[0], sum[1]) * turns.next();
  }
  return total;
}

namespace {

// Σ x·e, Σ j·x·e, Σ j²·x·e over a whole group, each in four lanes: re and im in turn.
WAVICON_WIDE void group_sums(const double* x, const double* re_table, const double* im_table,
                             double* result) {
  double lanes[6][4] = {};
  for (std::size_t j = 0; j < kGroup; j += 4)
    for (std::size_t lane = 0; lane < 4; ++lane) {
      const double n = static_cast<double>(j + lane);
      const double re = x[j + lane] * re_table[j + lane], im = x[j + lane] * im_table[j + lane];
      lanes[0][lane] += re;
      lanes[1][lane] += im;
      lanes[2][lane] += n * re;
      lanes[3][lane] += n * im;
      lanes[4][lane] += n * n * re;
      lanes[5][lane] += n * n * im;
    }
  for (std::size_t i = 0; i < 6; ++i) result[i] = (lanes[i][0] + lanes[i][1]) + (lanes[i][2] + lanes[i][3]);
}

}  // namespace

ToneSums tone_sums(std::span<const double> samples, Phase step) {
  const RotorTable table(step);
  GroupTurns turns(step);
  ToneSums total{};
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    std::array<double, kGroup> last;
    const double* x = whole_group(samples, start, last);
    double sums[6];
    group_sums(x, table.re.data(), table.im.data(), sums);
    const std::complex<double> s0(sums[0], sums[1]), s1(sums[2], sums[3]), s2(sums[4], sums[5]);
    const std::complex<double> turn = turns.next();
    const double a = static_cast<double>(start);
    total.zeroth += turn * s0;
    total.first += turn * (s1 + a * s0);
    total.second += turn * (s2 + 2.0 * a * s1 + a * a * s0);
  }
  return total;
}

void add_tone(std::span<double> samples, Phase step, std::complex<double> amplitude) {
  const RotorTable table(step);
  GroupTurns turns(step);
  for (std::size_t start = 0; start < samples.size(); start += kGroup) {
    const std::size_t count = std::min(kGroup, samples.size() - start);
    // Re(c·e^{iφ}) = Re(c)·cos φ - Im(c)·sin φ, and the table holds -sin.
    const std::complex<double> turned = amplitude * std::conj(turns.next());
    for (std::size_t j = 0; j < count; ++j)
      samples[start + j] += turned.real() * table.re[j] + turned.imag() * table.im[j];
  }
}

}  // namespace wavicon

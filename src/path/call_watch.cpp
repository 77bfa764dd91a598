// SPDX-License-Identifier: MIT
#include "wavicon/path/call_watch.hpp"

#include <dlfcn.h>
#include <elf.h>
#include <link.h>
#include <pthread.h>
#include <semaphore.h>
#include <sys/mman.h>
#include <unistd.h>

#include <array>
#include <cstdlib>
#include <cstring>
#include <string_view>

namespace wavicon {
namespace {

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr bool kPossible = false;
#elif defined(__x86_64__) || defined(__aarch64__)
constexpr bool kPossible = true;
#else
constexpr bool kPossible = false;
#endif

thread_local bool watching = false;
thread_local WatchedCalls seen;

void count_allocation() {
  if (watching) ++seen.allocations;
}
void count_lock() {
  if (watching) ++seen.locks;
}

void* own_malloc(std::size_t size) {
  count_allocation();
  return std::malloc(size);
}
void* own_calloc(std::size_t count, std::size_t size) {
  count_allocation();
  return std::calloc(count, size);
}
void* own_realloc(void* old, std::size_t size) {
  count_allocation();
  return std::realloc(old, size);
}
int own_posix_memalign(void** place, std::size_t alignment, std::size_t size) {
  count_allocation();
  return ::posix_memalign(place, alignment, size);
}
void* own_aligned_alloc(std::size_t alignment, std::size_t size) {
  count_allocation();
  return ::aligned_alloc(alignment, size);
}
void own_free(void* old) {
  if (old != nullptr) count_allocation();
  std::free(old);
}
int own_mutex_lock(pthread_mutex_t* mutex) {
  count_lock();
  return ::pthread_mutex_lock(mutex);
}
int own_cond_wait(pthread_cond_t* condition, pthread_mutex_t* mutex) {
  count_lock();
  return ::pthread_cond_wait(condition, mutex);
}
int own_rdlock(pthread_rwlock_t* lock) {
  count_lock();
  return ::pthread_rwlock_rdlock(lock);
}
int own_wrlock(pthread_rwlock_t* lock) {
  count_lock();
  return ::pthread_rwlock_wrlock(lock);
}
int own_sem_wait(sem_t* semaphore) {
  count_lock();
  return ::sem_wait(semaphore);
}

struct Exchanged {
  std::string_view name;
  void* by;
};
const std::array<Exchanged, 11>& exchanged() {
  static const std::array<Exchanged, 11> kAll = {
      Exchanged{"malloc", reinterpret_cast<void*>(&own_malloc)},
      {"calloc", reinterpret_cast<void*>(&own_calloc)},
      {"realloc", reinterpret_cast<void*>(&own_realloc)},
      {"posix_memalign", reinterpret_cast<void*>(&own_posix_memalign)},
      {"aligned_alloc", reinterpret_cast<void*>(&own_aligned_alloc)},
      {"free", reinterpret_cast<void*>(&own_free)},
      {"pthread_mutex_lock", reinterpret_cast<void*>(&own_mutex_lock)},
      {"pthread_cond_wait", reinterpret_cast<void*>(&own_cond_wait)},
      {"pthread_rwlock_rdlock", reinterpret_cast<void*>(&own_rdlock)},
      {"pthread_rwlock_wrlock", reinterpret_cast<void*>(&own_wrlock)},
      {"sem_wait", reinterpret_cast<void*>(&own_sem_wait)}};
  return kAll;
}

bool is_import(unsigned long type) {
#if defined(__aarch64__)
  return type == R_AARCH64_JUMP_SLOT || type == R_AARCH64_GLOB_DAT || type == R_AARCH64_ABS64;
#else
  return type == R_X86_64_JUMP_SLOT || type == R_X86_64_GLOB_DAT || type == R_X86_64_64;
#endif
}

void put(void** place, void* function) {
  const auto page = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
  auto* start = reinterpret_cast<void*>(reinterpret_cast<std::uintptr_t>(place) / page * page);
  // What has been relocated may be read only.
  if (::mprotect(start, page, PROT_READ | PROT_WRITE) != 0) return;
  *place = function;
}

struct Tables {
  const ElfW(Sym) * symbols = nullptr;
  const char* names = nullptr;
  const ElfW(Rela) * rela = nullptr;
  std::size_t rela_bytes = 0;
  const ElfW(Rela) * jump = nullptr;
  std::size_t jump_bytes = 0;
};

Tables tables_of(const ElfW(Dyn) * dynamic) {
  Tables tables;
  for (; dynamic->d_tag != DT_NULL; ++dynamic) {
    const auto address = dynamic->d_un.d_ptr;
    switch (dynamic->d_tag) {
      case DT_SYMTAB:
        tables.symbols = reinterpret_cast<const ElfW(Sym)*>(address);
        break;
      case DT_STRTAB:
        tables.names = reinterpret_cast<const char*>(address);
        break;
      case DT_RELA:
        tables.rela = reinterpret_cast<const ElfW(Rela)*>(address);
        break;
      case DT_RELASZ:
        tables.rela_bytes = dynamic->d_un.d_val;
        break;
      case DT_JMPREL:
        tables.jump = reinterpret_cast<const ElfW(Rela)*>(address);
        break;
      case DT_PLTRELSZ:
        tables.jump_bytes = dynamic->d_un.d_val;
        break;
      default:
        break;
    }
  }
  return tables;
}

int exchange_in(dl_phdr_info* library, std::size_t, void* count) {
  auto& number = *static_cast<int*>(count);
  const std::string_view path = library->dlpi_name == nullptr ? "" : library->dlpi_name;
  // The program itself is first; the C library and the loader are what is called.
  if (number++ == 0 || path.empty()) return 0;
  const std::string_view file = path.substr(path.rfind('/') + 1);
  if (file.rfind("libc.", 0) == 0 || file.rfind("ld-", 0) == 0 || file.rfind("linux-vdso", 0) == 0) return 0;
  for (int i = 0; i < library->dlpi_phnum; ++i) {
    if (library->dlpi_phdr[i].p_type != PT_DYNAMIC) continue;
    const Tables tables =
        tables_of(reinterpret_cast<const ElfW(Dyn)*>(library->dlpi_addr + library->dlpi_phdr[i].p_vaddr));
    if (tables.symbols == nullptr || tables.names == nullptr) continue;
    const auto exchange = [&](const ElfW(Rela) * list, std::size_t bytes) {
      for (std::size_t r = 0; list != nullptr && r < bytes / sizeof *list; ++r) {
        if (!is_import(ELF64_R_TYPE(list[r].r_info))) continue;
        const std::string_view name = tables.names + tables.symbols[ELF64_R_SYM(list[r].r_info)].st_name;
        for (const Exchanged& one : exchanged())
          if (one.name == name) put(reinterpret_cast<void**>(library->dlpi_addr + list[r].r_offset), one.by);
      }
    };
    exchange(tables.rela, tables.rela_bytes);
    exchange(tables.jump, tables.jump_bytes);
  }
  return 0;
}

}  // namespace

bool watch_calls() {
  if constexpr (!kPossible) return false;
  int number = 0;
  ::dl_iterate_phdr(exchange_in, &number);
  return true;
}

void begin_watch() {
  seen = {};
  watching = true;
}

WatchedCalls end_watch() {
  watching = false;
  return seen;
}

}  // namespace wavicon

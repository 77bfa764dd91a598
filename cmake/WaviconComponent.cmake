# SPDX-License-Identifier: MIT
# One component = one folder of include/wavicon and src = one target wavicon-NAME with the alias wavicon::NAME,
# its header set, its install rule and its pkg-config file.

include(CMakePackageConfigHelpers)

add_library(wavicon-flags INTERFACE)
target_compile_features(wavicon-flags INTERFACE cxx_std_20)
# No contraction into fused multiply-add: the same recipe gives the same bytes on every processor.
target_compile_options(wavicon-flags INTERFACE -Wall -Wextra -Wpedantic -Wshadow -Wno-missing-field-initializers
  -ffp-contract=off
  # Nobody asks for errno or the processor's flags after a calculation: roots then take one instruction, in
  # wide loops too. Values are the same.
  -fno-math-errno -fno-trapping-math
  # GCC 12 reports joined strings as overlapping, overlong or endless copies (its bug 105651).
  $<$<CXX_COMPILER_ID:GNU>:-Wno-restrict -Wno-stringop-overflow -Wno-stringop-overread -Wno-array-bounds>
  $<$<BOOL:${WAVICON_WERROR}>:-Werror>)

# Headers of others that most sources read: the compiler reads them once, for all components. Each source names
# what it uses all the same: the presets `core` and `clang` build without WAVICON_FAST_BUILD, where a missing one is
# an error.
set(WAVICON_READ_BY_MOST <algorithm> <array> <bit> <cmath> <complex> <cstdint> <cstring> <filesystem> <functional>
  <map> <memory> <numbers> <numeric> <optional> <set> <span> <sstream> <string> <string_view> <tuple> <utility>
  <variant> <vector> <fmt/format.h> <fmt/ranges.h>)

# Sources that bring in more than they hold (a parser of the command line, a test framework) share it, SIZE by SIZE.
function(wavicon_compile_together target size)
  set_target_properties(${target} PROPERTIES UNITY_BUILD ${WAVICON_FAST_BUILD} UNITY_BUILD_BATCH_SIZE ${size})
endfunction()

# How sources of a component are compiled; what they use comes last.
function(wavicon_compile_for_component target own_macros)
  # No macro of its own for a shared library: compiled headers hold for one set of macros.
  set_target_properties(${target} PROPERTIES DEFINE_SYMBOL "" CXX_VISIBILITY_PRESET hidden VISIBILITY_INLINES_HIDDEN ON
    POSITION_INDEPENDENT_CODE ON)
  target_link_libraries(${target} PRIVATE $<BUILD_INTERFACE:wavicon-flags> ${ARGN})
  target_include_directories(${target} PRIVATE ${PROJECT_SOURCE_DIR}/src)
  target_compile_definitions(${target} PRIVATE WAVICON_STRICT_SHEETS=$<BOOL:${WAVICON_TESTS}>)
  if(target STREQUAL "wavicon-audio" OR own_macros)
    target_precompile_headers(${target} PRIVATE ${WAVICON_READ_BY_MOST})
  else()
    target_precompile_headers(${target} REUSE_FROM wavicon-audio)
  endif()
endfunction()

# What puts together words and tables takes half the time to build with little optimisation, and as long to run.
function(wavicon_computes_little target)
  target_compile_options(${target} PRIVATE $<$<CONFIG:Release>:-O1>)
  wavicon_compile_together(${target} 8)
endfunction()

# What computes is compiled file by file, or, where a component has folders of its own, folder by folder.
function(wavicon_compile_folders_together target root)
  foreach(source IN LISTS ARGN)
    cmake_path(RELATIVE_PATH source BASE_DIRECTORY ${root} OUTPUT_VARIABLE place)
    cmake_path(GET place PARENT_PATH folder)
    if(folder)
      set_target_properties(${target} PROPERTIES UNITY_BUILD ${WAVICON_FAST_BUILD} UNITY_BUILD_MODE GROUP)
      set_source_files_properties(${source} PROPERTIES UNITY_GROUP ${folder})
    endif()
  endforeach()
endfunction()

function(wavicon_component name)
  cmake_parse_arguments(ARG "COMPUTES_LITTLE;OWN_MACROS" "SUMMARY" "USES;PRIVATE;HEADER_ONLY;PACKAGES;PKGCONFIG;LIBRARIES" ${ARGN})
  file(GLOB_RECURSE sources CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/src/${name}/*.cpp)
  file(GLOB_RECURSE headers CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/include/wavicon/${name}/*.hpp)
  set(words "")
  if(NOT ARG_COMPUTES_LITTLE)
    set(words ${sources})
    list(FILTER words INCLUDE REGEX "/(measurement|measurement_list|readings|sheet|recipe_toml|[a-z_]+_(readings|sheet))\\.cpp$")
    list(REMOVE_ITEM sources ${words})
  endif()
  add_library(wavicon-${name} ${sources})
  add_library(wavicon::${name} ALIAS wavicon-${name})
  target_sources(wavicon-${name} PUBLIC FILE_SET HEADERS BASE_DIRS ${PROJECT_SOURCE_DIR}/include FILES ${headers})
  list(TRANSFORM ARG_USES PREPEND wavicon:: OUTPUT_VARIABLE uses)
  target_link_libraries(wavicon-${name} PUBLIC ${uses})
  target_compile_features(wavicon-${name} PUBLIC cxx_std_20)
  # Header-only libraries are compiled in: a consumer needs nothing of them.
  set(private ${ARG_PRIVATE})
  foreach(library IN LISTS ARG_HEADER_ONLY)
    list(APPEND private $<BUILD_INTERFACE:${library}>)
  endforeach()
  wavicon_compile_for_component(wavicon-${name} ${ARG_OWN_MACROS} ${private})
  if(ARG_COMPUTES_LITTLE)
    wavicon_computes_little(wavicon-${name})
  elseif(words)
    add_library(wavicon-${name}-words OBJECT ${words})
    wavicon_compile_for_component(wavicon-${name}-words ${ARG_OWN_MACROS} ${uses} ${private})
    wavicon_computes_little(wavicon-${name}-words)
    target_sources(wavicon-${name} PRIVATE $<TARGET_OBJECTS:wavicon-${name}-words>)
  endif()
  wavicon_compile_folders_together(wavicon-${name} ${PROJECT_SOURCE_DIR}/src/${name} ${sources})
  set_target_properties(wavicon-${name} PROPERTIES EXPORT_NAME ${name}
    VERSION ${PROJECT_VERSION} SOVERSION ${PROJECT_VERSION_MAJOR})
  if(BUILD_SHARED_LIBS)
    target_link_options(wavicon-${name} PRIVATE -Wl,--version-script=${PROJECT_SOURCE_DIR}/cmake/exports.map)
    set_property(TARGET wavicon-${name} PROPERTY LINK_DEPENDS ${PROJECT_SOURCE_DIR}/cmake/exports.map)
  endif()
  set_property(GLOBAL APPEND PROPERTY wavicon_components ${name})
  set_property(GLOBAL PROPERTY wavicon_${name}_uses ${ARG_USES})
  set_property(GLOBAL PROPERTY wavicon_${name}_summary "${ARG_SUMMARY}")
  set_property(GLOBAL PROPERTY wavicon_${name}_libraries ${ARG_LIBRARIES})
  wavicon_component_needs(${name} PACKAGES ${ARG_PACKAGES} PKGCONFIG ${ARG_PKGCONFIG})
  if("fmt::fmt" IN_LIST ARG_PRIVATE)
    wavicon_component_needs(${name} PACKAGES fmt)
  endif()
  install(TARGETS wavicon-${name} EXPORT wavicon-${name}
    RUNTIME COMPONENT runtime
    LIBRARY COMPONENT runtime NAMELINK_COMPONENT development
    ARCHIVE COMPONENT development
    FILE_SET HEADERS COMPONENT development)
  install(EXPORT wavicon-${name} NAMESPACE wavicon:: DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/wavicon COMPONENT development)
endfunction()

# Foreign libraries that a consumer of the static library has to link as well.
function(wavicon_component_needs name)
  cmake_parse_arguments(ARG "" "" "PACKAGES;PKGCONFIG" ${ARGN})
  set_property(GLOBAL APPEND PROPERTY wavicon_${name}_packages ${ARG_PACKAGES})
  set_property(GLOBAL APPEND PROPERTY wavicon_${name}_pkgconfig ${ARG_PKGCONFIG})
endfunction()

# Writes the package configuration and one .pc file per component.
function(wavicon_install_package)
  get_property(components GLOBAL PROPERTY wavicon_components)
  set(table "")
  foreach(name IN LISTS components)
    get_property(uses GLOBAL PROPERTY wavicon_${name}_uses)
    get_property(packages GLOBAL PROPERTY wavicon_${name}_packages)
    get_property(modules GLOBAL PROPERTY wavicon_${name}_pkgconfig)
    get_property(summary GLOBAL PROPERTY wavicon_${name}_summary)
    # Libraries that neither CMake nor pkg-config knows.
    get_property(plain GLOBAL PROPERTY wavicon_${name}_libraries)
    list(TRANSFORM plain PREPEND " -l")
    list(JOIN plain "" plain)
    list(REMOVE_DUPLICATES packages)
    # Shared libraries bring what they use.
    set(to_find_packages "${packages}")
    set(to_find_modules "${modules}")
    if(BUILD_SHARED_LIBS)
      set(to_find_packages "")
      set(to_find_modules "")
    endif()
    string(APPEND table "set(_wavicon_${name}_uses \"${uses}\")\n"
      "set(_wavicon_${name}_packages \"${to_find_packages}\")\nset(_wavicon_${name}_modules \"${to_find_modules}\")\n")
    set(requires "")
    foreach(use IN LISTS uses)
      string(APPEND requires " wavicon-${use}")
    endforeach()
    # A static library hands the libraries that it uses to its consumer; those are shared ones, so --static is not asked for.
    set(foreign ${packages} ${modules})
    list(JOIN foreign " " foreign)
    set(requires_private "")
    if(BUILD_SHARED_LIBS)
      set(requires_private "${foreign}")
    else()
      string(APPEND requires " ${foreign}")
    endif()
    file(RELATIVE_PATH up "${CMAKE_INSTALL_PREFIX}/${CMAKE_INSTALL_LIBDIR}/pkgconfig" "${CMAKE_INSTALL_PREFIX}")
    string(REGEX REPLACE "/$" "" up "${up}")
    file(WRITE ${PROJECT_BINARY_DIR}/pkgconfig/wavicon-${name}.pc
      "prefix=\${pcfiledir}/${up}\nlibdir=\${prefix}/${CMAKE_INSTALL_LIBDIR}\n"
      "includedir=\${prefix}/${CMAKE_INSTALL_INCLUDEDIR}\n\n"
      "Name: wavicon-${name}\nDescription: ${summary}\nVersion: ${PROJECT_VERSION}\n"
      "Requires:${requires}\nRequires.private: ${requires_private}\n"
      "Cflags: -I\${includedir}\nLibs: -L\${libdir} -lwavicon-${name}${plain}\n")
    install(FILES ${PROJECT_BINARY_DIR}/pkgconfig/wavicon-${name}.pc
      DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig COMPONENT development)
  endforeach()
  set(WAVICON_COMPONENT_TABLE "${table}")
  set(WAVICON_COMPONENTS "${components}")
  configure_package_config_file(${PROJECT_SOURCE_DIR}/cmake/wavicon-config.cmake.in
    ${PROJECT_BINARY_DIR}/wavicon-config.cmake INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/wavicon)
  write_basic_package_version_file(${PROJECT_BINARY_DIR}/wavicon-config-version.cmake
    COMPATIBILITY SameMinorVersion)
  install(FILES ${PROJECT_BINARY_DIR}/wavicon-config.cmake ${PROJECT_BINARY_DIR}/wavicon-config-version.cmake
    DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/wavicon COMPONENT development)
endfunction()

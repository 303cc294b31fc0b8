# What every target of the project shares: warnings as errors, reproducible floating point, sanitizers.
function(calm_settings target)
  target_compile_options(${target} PRIVATE
    -Wall -Wextra -Wpedantic -Werror -Wshadow -Wnon-virtual-dtor -Woverloaded-virtual
    # GCC 12 raises these falsely, through expression templates and std::string (bug 105329).
    $<$<CXX_COMPILER_ID:GNU>:-Wno-maybe-uninitialized> $<$<CXX_COMPILER_ID:GNU>:-Wno-restrict>
    # The same bits on every machine: no fused multiply-add unless written, no reordering.
    -ffp-contract=off)
  if(CALM_SANITIZE)
    target_compile_options(${target} PRIVATE
      -fsanitize=address,undefined -fno-omit-frame-pointer -fno-sanitize-recover=all)
    target_link_options(${target} PRIVATE -fsanitize=address,undefined)
  endif()
endfunction()

# One library a folder: calm_library(engine SOURCES ... PUBLIC ... PRIVATE ... PRECOMPILED <headers>).
# A library's headers are found as "<folder>/<file>" only by those who link it, because its include root holds
# nothing but a link to its own folder. So a use that points upwards does not compile.
function(calm_library name)
  cmake_parse_arguments(ARG "" "" "SOURCES;PUBLIC;PRIVATE;PRECOMPILED" ${ARGN})
  set(root ${CMAKE_BINARY_DIR}/uses/${name})
  file(MAKE_DIRECTORY ${root})
  file(CREATE_LINK ${CMAKE_CURRENT_SOURCE_DIR} ${root}/${name} SYMBOLIC)
  add_library(calm_${name} STATIC ${ARG_SOURCES})
  calm_settings(calm_${name})
  target_include_directories(calm_${name} PUBLIC ${root})
  target_link_libraries(calm_${name} PUBLIC ${ARG_PUBLIC} PRIVATE ${ARG_PRIVATE})
  # What most files of the folder read from outside the project; halves the time of a build.
  target_precompile_headers(calm_${name} PRIVATE <Eigen/Geometry> <map> <vector> ${ARG_PRECOMPILED})
endfunction()

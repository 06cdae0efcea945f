# One place for the standard, the warnings, and how a layer is made.
add_library(oxgoad_options INTERFACE)
target_compile_features(oxgoad_options INTERFACE cxx_std_20)
# At less optimisation the compiler warns falsely, which would stop the build of someone who only wants to use it.
option(OXGOAD_WARNINGS "Warn, and take warnings as errors: what developers build with" ON)
if(OXGOAD_WARNINGS)
  target_compile_options(oxgoad_options INTERFACE -Wall -Wextra -Wpedantic -Wshadow=local -Wconversion -Wno-sign-conversion -Wno-missing-field-initializers -Wno-restrict -Wno-stringop-overflow -Wno-array-bounds -Wno-stringop-overread -Werror)
else()
  target_compile_options(oxgoad_options INTERFACE -w)
endif()
if(OXGOAD_ASSERTIONS)
  target_compile_options(oxgoad_options INTERFACE -UNDEBUG)
endif()
if(OXGOAD_SANITIZE)
  # Sanitized builds are told more than others: assertions, and what the library itself can check. Some warnings of the
  # compiler are false where it looks through instrumented code.
  target_compile_options(oxgoad_options INTERFACE -fsanitize=${OXGOAD_SANITIZE} -fno-sanitize-recover=all -fno-omit-frame-pointer
    -Wno-maybe-uninitialized -Wno-stringop-overflow -Wno-stringop-overread -Wno-array-bounds -Wno-tsan)
  target_compile_definitions(oxgoad_options INTERFACE _GLIBCXX_ASSERTIONS)
  target_link_options(oxgoad_options INTERFACE -fsanitize=${OXGOAD_SANITIZE})
endif()

set(CMAKE_CXX_STANDARD 20)
set(CMAKE_CXX_STANDARD_REQUIRED ON)
set(CMAKE_CXX_EXTENSIONS OFF)
set(CMAKE_CXX_FLAGS_RELEASE "-O2 -DNDEBUG")
set(CMAKE_CXX_FLAGS_RELWITHDEBINFO "-O2 -g1")
if(OXGOAD_SANITIZE)
  set(CMAKE_CXX_FLAGS_RELWITHDEBINFO "-O1 -g1") # instrumented code takes long enough to compile
endif()

# oxgoad_once(NAME HEADERS <a> ... OPTIONS ... LINK ...)
# Headers that every file would read again are compiled once and read so by all targets that are compiled with the same
# options; what a target reads through it is said by ONCE NAME of its layer.
set(standard_headers <algorithm> <array> <chrono> <cmath> <cstdint> <filesystem> <functional> <limits> <map> <memory> <mutex> <numeric> <optional> <span>
  <string> <string_view> <unordered_map> <utility> <variant> <vector>)
function(oxgoad_once name)
  cmake_parse_arguments(ARG "" "" "HEADERS;OPTIONS;LINK" ${ARGN})
  file(CONFIGURE OUTPUT ${PROJECT_BINARY_DIR}/once/${name}.cpp CONTENT "// A target needs a file.\n")
  add_library(oxgoad_once_${name} OBJECT ${PROJECT_BINARY_DIR}/once/${name}.cpp)
  set_target_properties(oxgoad_once_${name} PROPERTIES AUTOMOC OFF AUTORCC OFF)
  target_compile_options(oxgoad_once_${name} PRIVATE ${ARG_OPTIONS})
  target_link_libraries(oxgoad_once_${name} PRIVATE ${ARG_LINK} oxgoad_options)
  target_precompile_headers(oxgoad_once_${name} PRIVATE ${standard_headers} ${ARG_HEADERS})
endfunction()

# oxgoad_layer(NAME [LIGHT] [ONCE name] SOURCES a.cpp ... LINK other_layer ...)
# LIGHT: a layer whose time goes into what it calls, compiled with less optimisation, which is a third of the work.
# A layer's headers are included as "NAME/header.h", and only by targets that link the layer: each layer has an
# include folder of its own with nothing but a link to itself, so that an include against the direction of the
# layers does not compile.
function(oxgoad_layer name)
  cmake_parse_arguments(ARG "LIGHT" "FOLDER;ONCE" "SOURCES;LINK" ${ARGN})
  if(NOT ARG_FOLDER)
    set(ARG_FOLDER ${CMAKE_CURRENT_SOURCE_DIR}/${name})
  endif()
  set(stage ${PROJECT_BINARY_DIR}/include/${name})
  file(MAKE_DIRECTORY ${stage})
  file(CREATE_LINK ${ARG_FOLDER} ${stage}/${name} SYMBOLIC)
  list(TRANSFORM ARG_SOURCES PREPEND ${ARG_FOLDER}/)
  add_library(oxgoad_${name} STATIC ${ARG_SOURCES})
  # Several files of a layer are compiled together where the first build matters more than the next one.
  set_target_properties(oxgoad_${name} PROPERTIES UNITY_BUILD ${OXGOAD_UNITY} UNITY_BUILD_BATCH_SIZE 8)
  set(once heart)
  if(ARG_LIGHT)
    target_compile_options(oxgoad_${name} PRIVATE -O1)
    set(once light)
  endif()
  if(ARG_ONCE)
    set(once ${ARG_ONCE})
  endif()
  target_precompile_headers(oxgoad_${name} REUSE_FROM oxgoad_once_${once})
  target_include_directories(oxgoad_${name} PUBLIC ${stage})
  target_link_libraries(oxgoad_${name} PUBLIC ${ARG_LINK} PRIVATE oxgoad_options)
  file(GLOB_RECURSE headers RELATIVE ${ARG_FOLDER} CONFIGURE_DEPENDS ${ARG_FOLDER}/*.h)
  foreach(header IN LISTS headers)
    list(APPEND layered "${name}/${header}")
  endforeach()
  set_property(TARGET oxgoad_${name} PROPERTY OXGOAD_HEADERS "${layered}")
endfunction()

# One interface target with the warnings, so that every target of the tree is held to the same standard.
add_library(kasane_warnings INTERFACE)
target_compile_options(kasane_warnings INTERFACE -Wall -Wextra -Wpedantic -Wshadow -Wnon-virtual-dtor -Woverloaded-virtual
                       -Wno-missing-field-initializers) # options are given by name, the rest keep their defaults
# g++ 12 warns of overlaps in "text" + std::string that are not there (GCC bug 105329).
target_compile_options(kasane_warnings INTERFACE $<$<CXX_COMPILER_ID:GNU>:-Wno-restrict>)
if(KASANE_WERROR)
  target_compile_options(kasane_warnings INTERFACE -Werror)
endif()
if(KASANE_FUZZ)
  add_compile_options(-fsanitize=fuzzer-no-link)
endif()
if(KASANE_SANITIZE STREQUAL "thread")
  target_compile_options(kasane_warnings INTERFACE $<$<CXX_COMPILER_ID:GNU>:-Wno-maybe-uninitialized -Wno-tsan>)
  add_compile_options(-fsanitize=thread)
  add_link_options(-fsanitize=thread)
elseif(KASANE_SANITIZE)
  # g++ 12 warns of values it cannot follow through its own instrumentation, in the standard library's <regex>.
  target_compile_options(kasane_warnings INTERFACE $<$<CXX_COMPILER_ID:GNU>:-Wno-maybe-uninitialized>)
  # Null, alignment and size are checked at every access, which doubles the compiler's time; the address sanitizer
  # catches what comes of them. The core, which reads files, is checked for alignment all the same.
  add_compile_options(-fsanitize=address,undefined -fno-sanitize=null,alignment,object-size,vptr -fno-omit-frame-pointer
                      -fno-sanitize-recover=all)
  add_link_options(-fsanitize=address,undefined)
endif()
# No fused or reordered arithmetic behind our back: the same inputs give the same bytes.
add_compile_options(-ffp-contract=off)

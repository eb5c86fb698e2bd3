# A build from nothing (the presets release and ci) compiles several sources of one room as one: most of the compiler's time is
# reading the same headers. While working on a few files, -DCMAKE_UNITY_BUILD=OFF (preset debug) is faster.

# Compiled alone: they have names of their own that others of their room have as well.
set(kasane_alone
  bench/general_chain.cpp
  kasane/calibration/flat_fit.cpp
  kasane/finishing/sharpen_picture.cpp
  kasane/finishing/sky_noise.cpp
  kasane/grading/figures.cpp
  kasane/integration/pixel_response.cpp
  kasane/integration/regrid.cpp
  kasane/integration/rejection_trials.cpp
  kasane/integration/resampler.cpp
  kasane/integration/sampling.cpp
  kasane/io/input_file.cpp
  kasane/io/jpeg_writer.cpp
  kasane/io/png_reader.cpp
  kasane/io/png_writer.cpp
  kasane/io/tiff.cpp
  kasane/io/tiff_writer.cpp
  kasane/project/export_masters.cpp
  kasane/project/finish.cpp
  kasane/project/onto_grid.cpp
  kasane/project/result.cpp
  kasane/recipe/verdicts.cpp
  kasane/registration/align.cpp
  kasane/registration/star_index.cpp
  kasane/report/review_data.cpp
  kasane/report/tables.cpp
  kasane/stages/composites.cpp
  kasane/stages/level_records.cpp
  kasane/stages/measure_record.cpp
  kasane/stages/rejected_lights.cpp
  kasane/stages/shared_grid.cpp
  tests/test_rooms.cpp
  tests/calibration/test_colour.cpp
  tests/calibration/test_corrections.cpp
  tests/cli/test_export_masters.cpp
  tests/cli/test_finish_command.cpp
  tests/finishing/test_sharpen.cpp
  tests/geometry/test_transform.cpp
  tests/integration/test_drizzle.cpp
  tests/integration/test_edge_feather.cpp
  tests/integration/test_halves.cpp
  tests/integration/test_lengths.cpp
  tests/integration/test_noise_factors.cpp
  tests/integration/test_rejected_cells.cpp
  tests/integration/test_rejection_trials.cpp
  tests/integration/test_sampling.cpp
  tests/normalization/test_levels.cpp
  tests/normalization/test_sky_samples.cpp
  tests/normalization/test_smooth_fit.cpp
  tests/normalization/test_star_scales.cpp
  tests/project/test_faults.cpp
  tests/project/test_grid.cpp
  tests/project/test_holdings.cpp
  tests/project/test_integrate_verb.cpp
  tests/project/test_run.cpp
  tests/project/test_staleness.cpp
  tests/registration/test_model.cpp
  tests/registration/test_mosaic.cpp
  tests/registration/test_reference.cpp
  tests/registration/test_registration.cpp)

# kasane_group_sources(TARGET): groups of at most ten neighbours; the vector kernels, which include themselves, stay alone.
function(kasane_group_sources target)
  get_target_property(sources ${target} SOURCES)
  list(SORT sources)
  foreach(source IN LISTS sources)
    cmake_path(ABSOLUTE_PATH source OUTPUT_VARIABLE absolute)
    cmake_path(RELATIVE_PATH absolute BASE_DIRECTORY ${PROJECT_SOURCE_DIR} OUTPUT_VARIABLE name)
    if(name MATCHES "_kernel\\.cpp$|^\\.\\." OR name IN_LIST kasane_alone)
      set_source_files_properties(${source} PROPERTIES SKIP_UNITY_BUILD_INCLUSION ON)
      continue()
    endif()
    cmake_path(GET name PARENT_PATH room)
    string(MAKE_C_IDENTIFIER ${room} room)
    if(NOT DEFINED count_${room})
      set(count_${room} 0)
    endif()
    math(EXPR group "${count_${room}} / 10")
    math(EXPR count_${room} "${count_${room}} + 1")
    set_source_files_properties(${source} PROPERTIES UNITY_GROUP ${room}_${group})
  endforeach()
  set_target_properties(${target} PROPERTIES UNITY_BUILD_MODE GROUP)
endfunction()

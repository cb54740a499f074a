#pragma once
// The core as a library: what a program needs that opens projects, runs them and reads what came of it. Everything else is a header of its
// own beside this one.
//
//     find_package(Hedgerow REQUIRED)
//     target_link_libraries(mine PRIVATE Hedgerow::core)

#include "base/version.h"
#include "formats/hedge/hedge.h"
#include "runs/readings.h"
#include "runs/responses.h"
#include "runs/run.h"
#include "studies/optimise.h"
#include "studies/study.h"
#include "studies/study_file.h"
#include "studies/study_statistics.h"

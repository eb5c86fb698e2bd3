# What Kasane's public headers include; a program that uses the shared libraries needs nothing else.
find_package(Threads REQUIRED)
find_package(Eigen3 3.4 REQUIRED NO_MODULE)
find_package(fmt 9 REQUIRED)
find_package(nlohmann_json 3.11 REQUIRED)

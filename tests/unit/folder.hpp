#pragma once

#include <cstdlib>
#include <filesystem>
#include <mesograph/base/files.hpp>
#include <string>

/// A folder of one test's own, gone with it: tests run side by side, and two must never share a name.
struct Folder {
  std::filesystem::path path;
  Folder() {
    std::string name = (std::filesystem::temp_directory_path() / "mesograph-XXXXXX").string();
    path = ::mkdtemp(name.data());
  }
  ~Folder() { std::filesystem::remove_all(path); }
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;
  std::filesystem::path file(const std::string& name, const std::string& text) const {
    mesograph::write_file(path / name, text);
    return path / name;
  }
};

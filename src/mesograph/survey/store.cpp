#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/store.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {
constexpr int store_version = 1;
}

struct Store::Register {
  SQLite::Database database;
  std::chrono::steady_clock::time_point since = std::chrono::steady_clock::now();  ///< opened, or a stage was finished
};

Store::Store(fs::path folder) : folder_(std::move(folder)) {
  std::error_code failed;
  fs::create_directories(folder_, failed);
  lock_ = ::open((folder_ / "lock").c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0644);
  if (lock_ < 0) throw Error("{}: cannot be written; check permissions and space", folder_.string());
  if (::flock(lock_, LOCK_EX | LOCK_NB) != 0) {
    ::close(lock_);
    throw Error("{}: another mesograph command is at work in this survey; wait for it to end", folder_.string());
  }
  try {
    register_ = std::make_unique<Register>(
        Register{SQLite::Database(folder_ / "register.sqlite", SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE)});
    SQLite::Database& db = register_->database;
    const int version = db.execAndGet("PRAGMA user_version").getInt();
    if (version > store_version)
      throw Error("{}: was written by a newer mesograph; update the program or delete the folder", folder_.string());
    db.exec(
        "CREATE TABLE IF NOT EXISTS stage (name TEXT PRIMARY KEY, fingerprint TEXT NOT NULL, summary TEXT NOT NULL)");
    db.exec("PRAGMA user_version = " + std::to_string(store_version));
  } catch (const SQLite::Exception& error) {
    ::close(lock_);
    throw Error("{}: is damaged ({}); delete the folder, it can be made again", (folder_ / "register.sqlite").string(),
                error.what());
  } catch (...) {
    ::close(lock_);
    throw;
  }
}

Store::~Store() {
  register_.reset();
  ::close(lock_);
}

std::optional<Store::Stage> Store::stage(const std::string& name) const {
  SQLite::Statement query(register_->database, "SELECT fingerprint, summary FROM stage WHERE name = ?");
  query.bind(1, name);
  if (!query.executeStep()) return std::nullopt;
  return Stage{query.getColumn(0).getString(), nlohmann::ordered_json::parse(query.getColumn(1).getString())};
}

void Store::finish(const std::string& name, const Stage& stage) {
  SQLite::Statement insert(register_->database, "INSERT OR REPLACE INTO stage VALUES (?, ?, ?)");
  insert.bind(1, name);
  insert.bind(2, stage.fingerprint);
  nlohmann::ordered_json summary = stage.summary;
  const auto now = std::chrono::steady_clock::now();
  summary["stage_seconds"] = std::chrono::duration<double>(now - register_->since).count();
  register_->since = now;
  insert.bind(3, summary.dump());
  insert.exec();
}

fs::path Store::item(const std::string& kind, const std::string& name, const std::string& fingerprint) const {
  std::string file = name;
  std::replace(file.begin(), file.end(), '/', '@');
  return folder_ / kind / (file + "." + fingerprint.substr(0, 16));
}

void Store::sweep(const std::string& kind, const std::string& keep_fingerprint) const {
  std::error_code missing;
  const std::string ending = "." + keep_fingerprint.substr(0, 16);
  for (const auto& entry : fs::directory_iterator(folder_ / kind, missing))
    if (!entry.path().filename().string().ends_with(ending)) fs::remove(entry.path(), missing);
}

void write_packed(const fs::path& path, const nlohmann::json& value) {
  const std::vector<std::uint8_t> bytes = nlohmann::json::to_msgpack(value);
  write_file(path, std::string_view(reinterpret_cast<const char*>(bytes.data()), bytes.size()));
}

nlohmann::json read_packed(const fs::path& path) {
  try {
    return nlohmann::json::from_msgpack(read_file(path));
  } catch (const nlohmann::json::exception&) {
    throw Error("{}: is damaged; delete it and run the command again", path.string());
  }
}

std::string hash_or_empty(const fs::path& path) { return fs::exists(path) ? hash_file(path) : std::string(); }

}  // namespace mesograph::survey

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <sqlite3.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/store.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

/// Goes up with whatever is packed into the register: what an older program noted is forgotten then, and made again.
constexpr int store_version = 2;
constexpr int patience_ms = 10000;  // for somebody who looks at the register while it is written, or the other way

/// Runs what works on the register and says what went wrong.
template <typename Work>
auto on_register(const fs::path& folder, const Work& work) {
  try {
    return work();
  } catch (const SQLite::Exception& error) {
    throw Error("{}", words_of_register_failure(folder / "register.sqlite", error.getErrorCode(), error.what()));
  }
}

}  // namespace

struct Store::Register {
  SQLite::Database database;
  std::chrono::steady_clock::time_point since = std::chrono::steady_clock::now();  ///< opened, or a stage was finished
};

std::string words_of_register_failure(const fs::path& file, int code, const std::string& what) {
  switch (code & 0xFF) {
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
      return fmt::format("{}: is damaged ({}); delete the folder {}, it can be made again", file.string(), what,
                         file.parent_path().string());
    case SQLITE_BUSY:
    case SQLITE_LOCKED:
      return fmt::format("{}: another mesograph command is at work in this survey; wait for it to end", file.string());
    case SQLITE_FULL:
      return fmt::format("{}: the disk is full; make room and run the same command again, nothing is lost",
                         file.string());
    default:
      return fmt::format("{}: cannot be read or written ({}); check space and permissions of the disk, nothing is lost",
                         file.string(), what);
  }
}

Store::Store(fs::path folder, Access access) : folder_(std::move(folder)) {
  const fs::path file = folder_ / "register.sqlite";
  std::error_code failed;
  if (access == Access::look) {
    if (!fs::exists(file, failed)) return;  // nothing has run yet
    on_register(folder_, [&] {
      register_ = std::make_unique<Register>(Register{SQLite::Database(file, SQLite::OPEN_READONLY, patience_ms)});
      const int version = register_->database.execAndGet("PRAGMA user_version").getInt();
      if (version > store_version)
        throw Error("{}: was written by a newer mesograph; update the program", folder_.string());
      if (version < store_version || !register_->database.tableExists("stage")) register_.reset();
    });
    return;
  }
  fs::create_directories(folder_, failed);
  lock_ = ::open((folder_ / "lock").c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0644);
  if (lock_ < 0) throw Error("{}: cannot be written; check permissions and space", folder_.string());
  if (::flock(lock_, LOCK_EX | LOCK_NB) != 0) {
    ::close(lock_);
    throw Error("{}: another mesograph command is at work in this survey; wait for it to end", folder_.string());
  }
  try {
    on_register(folder_, [&] {
      register_ = std::make_unique<Register>(
          Register{SQLite::Database(file, SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE, patience_ms)});
      SQLite::Database& db = register_->database;
      const int version = db.execAndGet("PRAGMA user_version").getInt();
      if (version > store_version)
        throw Error("{}: was written by a newer mesograph; update the program or delete the folder", folder_.string());
      if (version < store_version) db.exec("DROP TABLE IF EXISTS stage; DROP TABLE IF EXISTS output");
      if (!db.tableExists("stage"))
        db.exec(
            "CREATE TABLE stage (name TEXT PRIMARY KEY, fingerprint TEXT NOT NULL, seconds REAL NOT NULL, result BLOB "
            "NOT NULL)");
      if (!db.tableExists("output"))
        db.exec(
            "CREATE TABLE output (stage TEXT NOT NULL, file TEXT NOT NULL, bytes INTEGER NOT NULL, time INTEGER NOT "
            "NULL, hash TEXT NOT NULL)");
      if (version != store_version) db.exec("PRAGMA user_version = " + std::to_string(store_version));
    });
  } catch (...) {
    ::close(lock_);
    throw;
  }
}

Store::~Store() {
  register_.reset();
  if (lock_ >= 0) ::close(lock_);
}

fs::path Store::site() const {
  // store/, or store/preview of a look before the long run
  const fs::path whole = fs::absolute(folder_).lexically_normal();
  return whole.filename() == "preview" ? whole.parent_path().parent_path() : whole.parent_path();
}

std::optional<Store::Stage> Store::stage(const std::string& name) const {
  if (!register_) return std::nullopt;
  return on_register(folder_, [&]() -> std::optional<Stage> {
    SQLite::Statement query(register_->database, "SELECT fingerprint, seconds, result FROM stage WHERE name = ?");
    query.bind(1, name);
    if (!query.executeStep()) return std::nullopt;
    return Stage{query.getColumn(0).getString(), query.getColumn(1).getDouble(), query.getColumn(2).getString()};
  });
}

void Store::record(const std::string& name, const std::string& fingerprint, const std::string& bytes,
                   const std::vector<fs::path>& outputs) {
  struct Written {
    std::string file, hash;
    FileMark mark;
  };
  std::vector<Written> written;
  for (const fs::path& path : outputs) {
    const fs::path whole = fs::absolute(path).lexically_normal(), inside = whole.lexically_relative(site());
    // Files of the survey move with it.
    const bool own = !inside.empty() && *inside.begin() != "..";
    written.push_back({(own ? inside : whole).string(), hash_file(whole), mark_of(whole)});
  }
  const auto now = std::chrono::steady_clock::now();
  const double seconds = std::chrono::duration<double>(now - register_->since).count();
  register_->since = now;
  on_register(folder_, [&] {
    SQLite::Transaction together(register_->database);
    SQLite::Statement insert(register_->database, "INSERT OR REPLACE INTO stage VALUES (?, ?, ?, ?)");
    insert.bind(1, name);
    insert.bind(2, fingerprint);
    insert.bind(3, seconds);
    insert.bind(4, bytes.data(), static_cast<int>(bytes.size()));
    insert.exec();
    SQLite::Statement forget(register_->database, "DELETE FROM output WHERE stage = ?");
    forget.bind(1, name);
    forget.exec();
    for (const Written& w : written) {
      SQLite::Statement note(register_->database, "INSERT INTO output VALUES (?, ?, ?, ?, ?)");
      note.bind(1, name);
      note.bind(2, w.file);
      note.bind(3, w.mark.bytes);
      note.bind(4, w.mark.time);
      note.bind(5, w.hash);
      note.exec();
    }
    together.commit();
  });
}

std::vector<fs::path> Store::outputs(const std::string& name) const {
  std::vector<fs::path> out;
  if (!register_ || !register_->database.tableExists("output")) return out;
  return on_register(folder_, [&] {
    SQLite::Statement query(register_->database, "SELECT file FROM output WHERE stage = ?");
    query.bind(1, name);
    while (query.executeStep()) out.push_back(site() / query.getColumn(0).getString());
    return out;
  });
}

std::string Store::changed_output(const std::string& name) const {
  if (!register_ || !register_->database.tableExists("output")) return {};
  return on_register(folder_, [&]() -> std::string {
    SQLite::Statement query(register_->database, "SELECT file, bytes, time, hash FROM output WHERE stage = ?");
    query.bind(1, name);
    while (query.executeStep()) {
      const std::string file = query.getColumn(0).getString();
      const FileMark then{query.getColumn(1).getInt64(), query.getColumn(2).getInt64()};
      const FileMark now = mark_of(site() / file);
      if (now == then) continue;
      if (now.bytes < 0) return file + " is gone";
      if (now.bytes != then.bytes || hash_file(site() / file) != query.getColumn(3).getString())
        return file + " has been changed since it was written";
    }
    return {};
  });
}

std::optional<Store::Stage> Store::current(const std::string& name, const std::string& fingerprint) const {
  auto out = stage(name);
  if (!out || out->fingerprint != fingerprint || !changed_output(name).empty()) return std::nullopt;
  return out;
}

fs::path Store::item(const std::string& kind, const std::string& name, const std::string& fingerprint) const {
  std::string file = name;
  std::replace(file.begin(), file.end(), '/', '@');
  // Names of files have 255 bytes: with the print behind and ".part" while they are written, a photo's may be too long.
  constexpr std::size_t longest = 200;
  if (file.size() > longest) {
    std::size_t cut = longest - 17;
    while (cut > 0 && (static_cast<unsigned char>(file[cut]) & 0xC0) == 0x80) --cut;  // never within a letter
    file = file.substr(0, cut) + "~" + hash_bytes(name).substr(0, 16);
  }
  return folder_ / kind / (file + "." + fingerprint.substr(0, 16));
}

void Store::sweep(const std::string& kind, const std::set<fs::path>& keep) const {
  std::error_code missing;
  std::vector<fs::path> stale;
  for (const auto& entry : fs::directory_iterator(folder_ / kind, missing))
    if (!keep.count(entry.path())) stale.push_back(entry.path());
  for (const fs::path& path : stale) fs::remove(path, missing);
}

std::string hash_or_empty(const fs::path& path) { return fs::exists(path) ? hash_file(path) : std::string(); }

FileMark mark_of(const fs::path& path) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0 || !S_ISREG(status.st_mode)) return {};
  return {status.st_size, status.st_mtim.tv_sec * 1'000'000'000 + status.st_mtim.tv_nsec};
}

}  // namespace mesograph::survey

#include <fcntl.h>
#include <fmt/format.h>
#include <tbb/global_control.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mutex>
#include <thread>

#include "help.hpp"

#if __has_include(<malloc.h>)
#include <malloc.h>
#endif

namespace mesograph::app {

namespace {

/// Ctrl-C: the first asks the work to stop at its next item, the second ends the program at once and leaves nothing
/// half written. A signal may come at any moment, so its handler only passes it on, and a thread of its own acts.
class Interrupts {
 public:
  Interrupts() {
    if (::pipe2(pipe_, O_CLOEXEC) != 0) return;
    std::signal(SIGXFSZ, SIG_IGN);  // a file that must not grow is a failing write like others
    std::signal(SIGINT, pass_on);
    std::signal(SIGTERM, pass_on);
    std::thread([this] { listen(); }).detach();
  }
  void run(ConsoleProgress* progress) {
    const std::lock_guard lock(mutex_);
    running_ = progress;
    if (running_ && asked_) running_->cancel();
  }

 private:
  inline static int pipe_[2] = {-1, -1};
  std::mutex mutex_;
  ConsoleProgress* running_ = nullptr;
  bool asked_ = false;

  static void pass_on(int) {
    const int before = errno;
    [[maybe_unused]] const ssize_t sent = ::write(pipe_[1], "", 1);
    errno = before;
  }
  void listen() {
    for (char byte = 0; ::read(pipe_[0], &byte, 1) == 1 || errno == EINTR;) {
      const std::lock_guard lock(mutex_);
      if (asked_) {
        drop_all_scratch();
        fmt::print(stderr, "\nerror: interrupted at once; run the same command again\n");
        std::fflush(stderr);
        ::_exit(130);
      }
      asked_ = true;
      if (running_) running_->cancel();
    }
  }
};
Interrupts& interrupts() {
  static Interrupts& all = *new Interrupts;  // its thread lives as long as the process
  return all;
}

const Command& find_command(const std::string& name) {
  std::vector<std::string> names;
  for (const Command& command : commands()) {
    if (command.name == name) return command;
    names.push_back(command.name);
  }
  const std::string near = nearest_word(name, names);
  throw UsageError("command '{}' is unknown{}; see mesograph --help", name,
                   near.empty() ? "" : ", did you mean " + near);
}

struct Outcome {
  int code = 0;
  std::string error;
};

/// Runs `work` and turns what it throws into exit code and sentence.
Outcome guarded(const std::function<void()>& work) {
  try {
    work();
    return {};
  } catch (const Cancelled&) {
    return {130, "interrupted before the end; run the same command again"};
  } catch (const UsageError& error) {
    return {2, error.what()};
  } catch (const Error& error) {
    return {3, error.what()};
  } catch (const std::exception& error) {
    return {1, fmt::format("internal: {}; please report this with the command", error.what())};
  }
}

/// What `help` prints: the overview, or a page made for others from the tables of options.
std::string page_text(const std::string& page) {
  if (page == "man") return man_page();
  if (page == "bash") return bash_completion();
  if (page == "options") return options_page();
  return overview();
}

int run(int argc, char** argv) {
  if (argc < 2 || std::string(argv[1]) == "--help" || std::string(argv[1]) == "help")
    return fmt::print("{}", page_text(argc > 2 ? argv[2] : "")), argc < 2 ? 2 : 0;
  if (std::string(argv[1]) == "--version") return fmt::print("mesograph {}\n", MESOGRAPH_VERSION), 0;

  const auto begin = std::chrono::steady_clock::now();
  const std::string name = argv[1];
  Json own;
  std::vector<std::string> lines, warnings;
  bool json = false, strict = false, help = false;
  for (int i = 2; i < argc; ++i) json = json || std::string(argv[i]) == "--json";
  const Outcome outcome = guarded([&] {
    const Command& command = find_command(name);
    for (const auto& [old, now] : command.renamed)
      for (int i = 2; i < argc; ++i)
        if (const std::string word = argv[i]; word == "--" + old || word.starts_with("--" + old + "="))
          throw UsageError("--{} of {} is called --{} now", old, name, now);
    const std::vector<Option> options = options_of(command);
    const Given given = parse(options, argc - 1, argv + 1);
    if (given.has("help")) {
      help = true;
      fmt::print("{}\n", help_text(command.name, command.summary, command.positional_help, options));
      return;
    }
    strict = given.has("strict");
    const int threads = given.whole("threads").value_or(static_cast<int>(std::thread::hardware_concurrency()));
    if (threads < 1) throw UsageError("--threads must be 1 or more");
    const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, static_cast<std::size_t>(threads));
    ConsoleProgress progress(given.has("quiet"), given.text("trace"), threads);
    interrupts().run(&progress);
    Call call{given, name, given.text("survey"), progress};
    if (command.positional_help.empty() && !call.paths().empty())
      throw UsageError("{} takes no '{}'; see mesograph {} --help", name, call.paths()[0], name);
    struct Keep {
      Call& call;
      Json& own;
      std::vector<std::string>&lines, &warnings;
      ~Keep() {
        own = call.json;
        lines = call.lines;
        warnings = call.progress.said();
        interrupts().run(nullptr);
      }
    } keep{call, own, lines, warnings};
    try {
      command.run(call);
    } catch (...) {
      try {
        progress.write_trace();
      } catch (const Error&) {
        // What the command failed for is said; it may be the same full disk.
      }
      throw;
    }
    progress.write_trace();
  });
  if (help) return 0;
  if (json) {
    Json out{{"command", name}, {"version", MESOGRAPH_VERSION}};
    out["seconds"] = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    out["warnings"] = nlohmann::json::array();
    for (const std::string& text : warnings)
      out["warnings"].push_back({{"code", "note"}, {"subject", name}, {"text", text}});
    out["error"] = outcome.code == 0 ? nlohmann::json() : nlohmann::json{{"text", outcome.error}};
    if (own.is_object()) out.update(own);
    // Paths may hold bytes that are no text.
    fmt::print("{}\n", out.dump(2, ' ', false, Json::error_handler_t::replace));
  } else {
    for (const std::string& line : lines) fmt::print("{}\n", line);
  }
  std::fflush(stdout);
  if (outcome.code != 0) fmt::print(stderr, "error: {}\n", outcome.error);
  return outcome.code == 0 && strict && !warnings.empty() ? 4 : outcome.code;
}

}  // namespace

}  // namespace mesograph::app

int main(int argc, char** argv) {
#ifdef M_TRIM_THRESHOLD
  // Memory of one tile or photo is kept for the next and not handed back to be asked for again: a twentieth of the time
  // of dense matching.
  mallopt(M_MMAP_THRESHOLD, 1 << 28);
  mallopt(M_TRIM_THRESHOLD, 1 << 29);
#endif
  try {
    return mesograph::app::run(argc, argv);
  } catch (...) {
    // All that a command fails for is caught where it runs; here it is the lines themselves that could not be printed.
    return 1;
  }
}

#include <fcntl.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <mesograph/base/run_program.hpp>

namespace mesograph {

bool run_program(std::vector<std::string> words, const Progress& progress) {
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  posix_spawn_file_actions_t files;
  posix_spawn_file_actions_init(&files);
  for (const int stream : {STDOUT_FILENO, STDERR_FILENO})
    posix_spawn_file_actions_addopen(&files, stream, "/dev/null", O_WRONLY, 0);
  pid_t child = 0;
  const int started = posix_spawnp(&child, arguments[0], &files, nullptr, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&files);
  if (started != 0) return false;
  int status = 0;
  try {
    while (waitpid(child, &status, WNOHANG) == 0) {
      progress.check();
      usleep(20000);
    }
  } catch (...) {
    kill(child, SIGKILL);
    waitpid(child, &status, 0);
    throw;
  }
  progress.check();  // a key at the terminal ends the child too
  return WIFEXITED(status) && WEXITSTATUS(status) == 0;
}

}  // namespace mesograph

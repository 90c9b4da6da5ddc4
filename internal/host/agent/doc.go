// Package agent stays on a host and serves: it reports what is in force, asks the service for
// tasks, has our own program do them, and tells what became of them.
//
// # What an agent may do
//
// It asks for tasks by long polls, so that no port need be open to a host. A task is done only if it is
// signed by a key that the host trusts, is for this host, is not over, and was not done before, which
// is noted on disk before the task is begun. What changes rules or takes memory is done by a process
// of its own, the same commands that a person types: an agent that is killed takes nothing with it.
//
// It reports at intervals, when the kernel says that rules or addresses changed, and after each task.
// What cannot be sent is spooled, and sent when the service is there again. Where the service is away,
// it waits longer each time, by chance, so that a fleet does not come back all at once.
//
// A probe opens one connection and says what came of it; a listener of ours greets first, so that a
// probe knows whether it reached that one or somebody else's.
package agent

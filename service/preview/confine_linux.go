package preview

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// sandboxed says that this system can confine a child.
const sandboxed = true

// isolate has a command run in a process group of its own and, with namespaces, without a
// network and with no rights over anything of this machine.
func isolate(command *exec.Cmd, namespaces bool) {
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	command.Cancel = func() error { return syscall.Kill(-command.Process.Pid, syscall.SIGKILL) }
	if namespaces {
		command.SysProcAttr.Cloneflags = syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC
		command.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getuid(), HostID: os.Getuid(), Size: 1}}
		command.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getgid(), HostID: os.Getgid(), Size: 1}}
	}
}

// confine bounds this process and what it becomes: its memory, its processor time, its files,
// and that it opens no connection.
func confine() error {
	for resource, most := range map[int]uint64{
		unix.RLIMIT_DATA: childMemory, unix.RLIMIT_CPU: childSeconds, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0, unix.RLIMIT_NOFILE: 64,
	} {
		if err := unix.Setrlimit(resource, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("limit %d: %w", resource, err)
		}
	}
	return refuseConnections()
}

// refuseConnections has every call that makes a socket, or that could make one past the filter,
// fail for all threads of this process (seccomp(2)).
func refuseConnections() error {
	architecture := uint32(unix.AUDIT_ARCH_X86_64)
	switch runtime.GOARCH {
	case "amd64":
	case "arm64":
		architecture = unix.AUDIT_ARCH_AARCH64
	default:
		return fmt.Errorf("the architecture %s is not known", runtime.GOARCH)
	}
	refused := []uint32{unix.SYS_SOCKET, unix.SYS_SOCKETPAIR, unix.SYS_IO_URING_SETUP, unix.SYS_PTRACE, unix.SYS_PROCESS_VM_WRITEV}
	const refuse, allow = unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM), uint32(unix.SECCOMP_RET_ALLOW)
	load := func(offset uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: offset}
	}
	jump := func(test uint16, value uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | test | unix.BPF_K, K: value, Jt: yes, Jf: no}
	}
	give := func(value uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: value} }
	filter := []unix.SockFilter{
		load(4), jump(unix.BPF_JEQ, architecture, 1, 0), give(refuse), // calls of another architecture have other numbers
		load(0), jump(unix.BPF_JGE, 1<<30, 0, 1), give(refuse), // as have those of x32
	}
	for _, number := range refused {
		filter = append(filter, jump(unix.BPF_JEQ, number, 0, 1), give(refuse))
	}
	filter = append(filter, give(allow))
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	program := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	// Only a filter that all threads have is one: new threads take that of the one that makes them.
	_, _, failed := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC,
		uintptr(unsafe.Pointer(&program)))
	runtime.KeepAlive(filter)
	if failed != 0 {
		return failed
	}
	return nil
}

// become has a program with its arguments take the place of this process.
func become(arguments []string) error {
	at, err := exec.LookPath(arguments[0])
	if err != nil {
		return err
	}
	return syscall.Exec(at, arguments, []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"})
}

package throwaway

import "syscall"

// endWithParent makes the kernel stop the server when this program dies
// without having stopped it.
func endWithParent(attributes *syscall.SysProcAttr) { attributes.Pdeathsig = syscall.SIGTERM }

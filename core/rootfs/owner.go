package rootfs

import (
	"io/fs"
	"reflect"
)

// owned is a file that knows whose it is.
type owned interface{ Owner() (uid, gid uint32) }

// Owner tells the user and the group of a file; ok is false where the file system has none.
func Owner(info fs.FileInfo) (uid, gid uint32, ok bool) {
	if o, ok := info.(owned); ok {
		uid, gid = o.Owner()
		return uid, gid, true
	}
	stat := reflect.Indirect(reflect.ValueOf(info.Sys())) // the system's own record of the file
	if stat.Kind() != reflect.Struct {
		return 0, 0, false
	}
	user, group := stat.FieldByName("Uid"), stat.FieldByName("Gid")
	if !user.IsValid() || !group.IsValid() || !user.CanUint() || !group.CanUint() {
		return 0, 0, false
	}
	return uint32(user.Uint()), uint32(group.Uint()), true
}

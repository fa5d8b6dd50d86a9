package smb

import (
	"fmt"
	"reflect"
	"unsafe"

	"github.com/hirochachacha/go-smb2"
)

// oneCredit is the most bytes that one credit stands for (MS-SMB2, section 3.1.5.2).
const oneCredit = 64 << 10

// listByOneCredit has the library ask for no more than 64 KiB of a listing at once.
//
// The library asks for as much as the server takes, 1 MiB or more, and takes the
// credits of that; but where fewer are left it sends the request all the same, with
// the charge of those that it got, and the server refuses it (MS-SMB2, section
// 3.3.5.2.5). Reading and writing ask for less then, listing does not. There is
// nothing that the library lets one set for this, and its own copy of the server's
// limit is what it goes by. An error says that a new version has to be looked at.
func listByOneCredit(session *smb2.Session) error {
	value := reflect.ValueOf(session)
	for _, name := range []string{"s", "conn"} {
		if value = value.Elem().FieldByName(name); value.Kind() != reflect.Pointer || value.IsNil() {
			return fmt.Errorf("the SMB library has no %s any more", name)
		}
	}
	limit := value.Elem().FieldByName("maxTransactSize")
	if limit.Kind() != reflect.Uint32 {
		return fmt.Errorf("the SMB library has no maxTransactSize any more")
	}
	limit = reflect.NewAt(limit.Type(), unsafe.Pointer(limit.UnsafeAddr())).Elem()
	limit.SetUint(min(limit.Uint(), oneCredit))
	return nil
}

package telling

import "testing"

func TestWhereSomethingIsTold(t *testing.T) {
	r := Rules{Hosts: []string{"desk.marram.example", "other.example:8443"}}
	for address, want := range map[string]bool{
		"https://desk.marram.example/in": true, "https://DESK.marram.example:8443": true, "https://other.example:8443/x?y": true,
		"https://other.example/x":       false,
		"http://desk.marram.example/in": false, "https://evil.example/": false, "https://desk.marram.example@evil.example/": false,
		"https://evil.example/desk.marram.example": false, "ftp://desk.marram.example/": false,
		"https://desk.marram.example.evil.example/": false, "https:desk.marram.example": false, "": false, "//desk.marram.example/": false,
		"https://desk.marram.example/#x": false, "https://desk.marram.example:0/": false, "https://desk.marram.example:99999/": false,
	} {
		if err := r.CheckURL(address); (err == nil) != want {
			t.Errorf("%s: %v", address, err)
		}
	}
	if err := (Rules{}).CheckURL("https://desk.marram.example/"); err == nil {
		t.Error("without a named host something is told")
	}
	if err := (Rules{Hosts: r.Hosts, Private: true}).CheckURL("http://desk.marram.example/"); err != nil {
		t.Error(err)
	}
	for address, want := range map[string]bool{
		"93.184.216.34:443": true, "[2606:4700::1]:443": true,
		"127.0.0.1:443": false, "127.8.9.1:80": false, "10.0.0.1:443": false, "172.16.0.1:443": false, "192.168.1.1:443": false,
		"169.254.169.254:80": false, "0.0.0.0:80": false, "100.64.0.1:443": false,
		"224.0.0.1:443": false, "255.255.255.255:443": false, "[::1]:443": false, "[::]:443": false, "[fe80::1%eth0]:443": false,
		"[fd00::1]:443": false, "[::ffff:127.0.0.1]:443": false, "[::ffff:10.0.0.1]:443": false,
		"[64:ff9b::7f00:1]:443": false, "[2002:7f00:1::]:443": false, "[ff02::1]:443": false, "[::127.0.0.1]:443": false,
		"[::ffff:0:127.0.0.1]:443": false, "[::10.0.0.1]:443": false, "[1000::1]:443": false, "[4000::1]:443": false,
		"localhost:443": false, "127.0.0.1": false,
	} {
		if err := r.CheckAddress(address); (err == nil) != want {
			t.Errorf("%s: %v", address, err)
		}
	}
	if err := (Rules{Private: true}).CheckAddress("127.0.0.1:80"); err != nil {
		t.Error(err)
	}
}

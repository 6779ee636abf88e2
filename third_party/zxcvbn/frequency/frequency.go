package frequency

import (
	"encoding/json"
	"log"
	"sync"

	"github.com/ccojocar/zxcvbn-go/data"
)

// List holds a frequency list
type List struct {
	Name string
	List []string
}

// Lists returns all the frequency lists, by name. They are read when they are first asked for.
var Lists = sync.OnceValue(func() map[string]List {
	lists := make(map[string]List)
	for name, file := range map[string]string{
		"MaleNames": "MaleNames", "FemaleNames": "FemaleNames", "Surname": "Surnames", "English": "English", "Passwords": "Passwords",
	} {
		lists[name] = getStringListFromAsset(getAsset("data/"+file+".json"), name)
	}
	return lists
})

func getAsset(name string) []byte {
	data, err := data.Asset(name)
	if err != nil {
		panic("Error getting asset " + name)
	}

	return data
}

func getStringListFromAsset(data []byte, name string) List {
	var tempList List
	err := json.Unmarshal(data, &tempList)
	if err != nil {
		log.Fatal(err)
	}
	tempList.Name = name
	return tempList
}

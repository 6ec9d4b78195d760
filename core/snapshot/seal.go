package snapshot

// seal keeps what a store holds from others' eyes; nil: the store is not sealed.
type seal struct{}

func (s *seal) id(data []byte) ID { return plainID(data) }

func (s *seal) close(data []byte) []byte { return data }

func (s *seal) open(stored []byte) ([]byte, error) { return stored, nil }

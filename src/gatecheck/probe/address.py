"""Where the bench is, whose link this is, and whose certificate it trusts; the bench writes it for one ticket."""

# the bench fills these in when it hands the file out for one ticket
SERVER = ""
SECRET = ""
AUTHORITY = ""

"""Where the bench is and whose link this is; the bench writes it when it hands the probe out for one ticket."""

# the bench fills these in when it hands the file out for one ticket
SERVER = ""
SECRET = ""

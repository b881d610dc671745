// Sends the one form of the page: an answer on its way to a client.
document.getElementById("answer").submit();
